import type { Schemas } from '../../api/client';
import { kindWord } from '../plans/draft';

/** What a run does, in a word or two. */
export const runKindWord: Record<string, string> = {
  ...kindWord,
  restore: 'Restore aside',
  'restore-in-place': 'Restore in place',
  'restore-together': 'Restore to one instant',
  move: 'Move',
  'second-database': 'A second database',
  'rehearse-move': 'A move by dump and load, rehearsed',
  'move-by-dump': 'A move by dump and load',
  view: 'View',
  clone: 'Clone',
  'open-for-log': 'Left open for log',
  'apply-log': 'Further log',
  'ad-hoc': 'A copy by hand',
  refresh: 'Refreshing a clone',
  rehearsal: 'Rehearsal',
  removal: 'Removal',
  'new-database': 'Making',
  'set-up-replica': 'A new replica',
  'hold-replica': 'Holding a replica',
  'resume-replica': 'Resuming a replica',
  'mend-replica': 'Mending a replica',
  'look-at-replica': 'A look at a replica',
  'take-over': 'Taking over',
  drill: 'Drill',
  'joint-drill': 'Drill',
  'remove-replica': 'Ending a replica',
  'plan-change': 'A change of a plan',
  'rehearse-change': 'Rehearsal of a change',
  change: 'Change',
};

/** Where a run stands. */
export const stateWord: Record<Schemas['RunState'], string> = {
  waiting: 'waits',
  running: 'under way',
  held: 'waits for a decision',
  undoing: 'is being undone',
  done: 'done',
  failed: 'failed',
  leftOut: 'left out',
  cancelled: 'ended by hand',
};

/** The colour of a state in lists and headings, by palette name. */
export const stateColour = (state: Schemas['RunState'], usual: string) =>
  state === 'failed'
    ? 'verdict.breached'
    : state === 'leftOut' || state === 'held' || state === 'undoing'
      ? 'verdict.atRisk'
      : usual;

/** Seconds a run took; null while it is not over. */
export const took = (r: Schemas['RunLine']) =>
  r.started && r.ended ? (Date.parse(r.ended) - Date.parse(r.started)) / 1000 : null;

/** What choosing at a step does, in words for its button. */
export const choiceWord: Record<string, string> = {
  release: 'Release: let clients in',
  'put-in-place': 'Put it in place, let clients in',
  'throw-away': 'Throw away',
  switch: 'Switch it over',
  approve: 'Approve',
  refuse: 'Refuse',
  told: 'Everybody was told',
  'send-clients': 'Send clients over',
  'go-home': 'Go home',
  stay: 'Stay here',
  'carry-out': 'Carry it out',
  'leave-it': 'Leave it as it is',
  keep: 'Keep it',
  'turn-back': 'Turn back',
};
