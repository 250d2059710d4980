import type { Schemas } from '../../api/client';

/** A task as the page edits it: the JSON of the plan, with its recurrence in words while they are being typed. */
export interface TaskDraft {
  id: string;
  kind: string;
  recurrence: {
    rule?: string;
    words?: string;
    start?: string;
    zone?: string;
    exceptDays?: string[];
    exceptTimes?: string[];
  } | null;
  after: { task: string; on: string }[];
  store: string | null;
  copyTo: string[];
  windowSeconds: number | null;
  spreadSeconds: number;
  offsets: { database: string; seconds: number }[];
  compression: string;
  key: string | null;
  naming: string;
  checksum: boolean;
  verifyAfterWriting: boolean;
  attempts: number;
  backOffSeconds: number;
  timeLimitSeconds: number | null;
  outsideChain: boolean;
  keep: KeepDraft;
  keepCopies: KeepDraft | null;
  lockSeconds: number | null;
  missed: string;
  overlap: string;
}

export interface KeepDraft {
  forSeconds: number | null;
  newest: number;
  daily: number;
  weekly: number;
  monthly: number;
  yearly: number;
  continuousSeconds: number | null;
  lastOfPeriod: boolean;
}

export interface PlanDraft {
  id: string;
  name: string;
  members: {
    databases: string[];
    services: string[];
    tags: string[];
    engines: string[];
    objectives: string[];
    except: string[];
  };
  tasks: TaskDraft[];
  tell: { people: string[]; failure: boolean; lateness: boolean; silenceSeconds: number | null; recovery: boolean };
}

export type Consequences = Schemas['Consequences'];

/** What tasks of a kind are called. */
export const kindWord: Record<string, string> = {
  full: 'Full',
  differential: 'Differential',
  incremental: 'Incremental',
  log: 'Log',
  snapshot: 'Snapshot',
  export: 'Export',
  integrityCheck: 'Integrity check',
  verify: 'Read back',
  copyElsewhere: 'Copy elsewhere',
  cleanUp: 'Clean up',
  testRestore: 'Test restore',
  shipBackup: 'Ship: back up',
  shipCopy: 'Ship: copy',
  shipApply: 'Ship: apply',
};

/** A plan that catches further databases by name, and no longer leaves them out. */
export const withMembers = (plan: PlanDraft, added: string[]): PlanDraft => ({
  ...plan,
  members: {
    ...plan.members,
    databases: [...new Set([...plan.members.databases, ...added])],
    except: plan.members.except.filter((d) => !added.includes(d)),
  },
});

/** What a stage of shipped replicas does, in a sentence; undefined for other kinds. */
export const shipWord: Record<string, string | undefined> = {
  shipBackup: 'log for shipped replicas, kept at the source',
  shipCopy: 'to the side of shipped replicas, kept there',
  shipApply: 'on shipped replicas, what was copied',
};

export const makesSet = (kind: string) =>
  ['full', 'differential', 'incremental', 'log', 'snapshot', 'export'].includes(kind);

/** A task like the last one that makes sets, of another kind: full, then differential, then log. */
export function nextTask(plan: PlanDraft, zone: string): TaskDraft {
  const last = plan.tasks.findLast((t) => makesSet(t.kind));
  const kinds = plan.tasks.map((t) => t.kind);
  const kind = !kinds.includes('full') ? 'full' : !kinds.includes('differential') ? 'differential' : 'log';
  const words =
    kind === 'full' ? 'Sundays 01:00' : kind === 'differential' ? 'Monday to Saturday 01:00' : 'every 15 minutes';
  let id = kindWord[kind]!.toLowerCase();
  for (let n = 2; plan.tasks.some((t) => t.id === id); n++) id = `${kindWord[kind]!.toLowerCase()} ${n}`;
  return {
    id,
    kind,
    recurrence: { words, zone },
    after: [],
    store: last?.store ?? null,
    copyTo: last?.copyTo ?? [],
    windowSeconds: null,
    spreadSeconds: 0,
    offsets: [],
    compression: 'light',
    key: last?.key ?? null,
    naming: '{database}-{kind}-{date}T{time}',
    checksum: true,
    verifyAfterWriting: false,
    attempts: 2,
    backOffSeconds: 60,
    timeLimitSeconds: null,
    outsideChain: false,
    keep: last?.keep ?? keepFor(14),
    keepCopies: null,
    lockSeconds: null,
    missed: 'catchUpOnce',
    overlap: 'skip',
  };
}

/** A plan whose tasks that make sets all have the places and the care of one of them: store and copies, packing, key, reading back, attempts, lock, names. */
export const withSettingsOf = (plan: PlanDraft, t: TaskDraft): PlanDraft => ({
  ...plan,
  tasks: plan.tasks.map((other) =>
    makesSet(other.kind)
      ? {
          ...other,
          store: t.store,
          copyTo: t.copyTo,
          compression: t.compression,
          key: t.key,
          naming: t.naming,
          checksum: t.checksum,
          verifyAfterWriting: t.verifyAfterWriting,
          attempts: t.attempts,
          backOffSeconds: t.backOffSeconds,
          lockSeconds: t.lockSeconds,
        }
      : other,
  ),
});

export const keepFor = (days: number): KeepDraft => ({
  forSeconds: days * 86_400,
  newest: 0,
  daily: 0,
  weekly: 0,
  monthly: 0,
  yearly: 0,
  continuousSeconds: null,
  lastOfPeriod: true,
});

/** A retention rule in words: "14 d, 4 weekly". */
export function keepWords(k: KeepDraft): string {
  const days = (s: number) =>
    s % 86_400 === 0 || s > 4 * 86_400 ? `${Math.round((s / 86_400) * 10) / 10} d` : `${Math.round(s / 360) / 10} h`;
  const parts = [
    k.forSeconds !== null && days(k.forSeconds),
    k.newest > 0 && `newest ${k.newest}`,
    k.daily > 0 && `${k.daily} daily`,
    k.weekly > 0 && `${k.weekly} weekly`,
    k.monthly > 0 && `${k.monthly} monthly`,
    k.yearly > 0 && `${k.yearly} yearly`,
    k.continuousSeconds !== null && `any instant of ${days(k.continuousSeconds)}`,
  ].filter(Boolean);
  return parts.join(', ') || 'nothing';
}

/** Reads what {@link keepWords} writes; null when it cannot be read. */
export function readKeep(text: string): KeepDraft | null {
  const keep: KeepDraft = { ...keepFor(1), forSeconds: null };
  for (const part of text.split(',').map((p) => p.trim().toLowerCase())) {
    const m =
      /^(?:any instant of )(\d+(?:\.\d+)?) ?(h|hours?|d|days?|w|weeks?)$/.exec(part) ??
      /^(\d+(?:\.\d+)?) ?(h|hours?|d|days?|w|weeks?|daily|weekly|monthly|yearly)$/.exec(part) ??
      /^(newest) (\d+)$/.exec(part);
    if (!m) return null;
    if (m[1] === 'newest') keep.newest = Number(m[2]);
    else if (['daily', 'weekly', 'monthly', 'yearly'].includes(m[2]!)) keep[m[2] as 'daily'] = Math.round(Number(m[1]));
    else {
      const seconds = Number(m[1]) * { h: 3600, d: 86_400, w: 7 * 86_400 }[m[2]![0] as 'h' | 'd' | 'w'];
      if (part.startsWith('any')) keep.continuousSeconds = seconds;
      else keep.forSeconds = seconds;
    }
  }
  return keep;
}

/** A span as people write it: "45 min", "6 h", "14 d"; empty for none. */
export function spanWords(seconds: number | null): string {
  if (!seconds) return '';
  return seconds >= 172_800 && seconds % 86_400 === 0
    ? `${seconds / 86_400} d`
    : seconds % 3600 === 0
      ? `${seconds / 3600} h`
      : seconds % 60 === 0
        ? `${seconds / 60} min`
        : `${seconds} s`;
}

/** Reads what {@link spanWords} writes; undefined when it cannot be read, null when it is empty. */
export function readSpan(text: string): number | null | undefined {
  const trimmed = text.trim().toLowerCase();
  if (trimmed === '') return null;
  const m = /^(\d+(?:\.\d+)?) ?(s|min|m|h|d)$/.exec(trimmed);
  if (!m) return undefined;
  return Number(m[1]) * { s: 1, min: 60, m: 60, h: 3600, d: 86_400 }[m[2] as 's']!;
}
