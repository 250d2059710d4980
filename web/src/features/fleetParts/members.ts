/** How a member of a part of the fleet is written by hand. */
export type Member = { key: string; label: string; hint?: string; needed?: boolean } & (
  | { kind: 'text' }
  | { kind: 'flag' }
  /** A number, shown in a unit: what stands in the file, divided by it. */
  | { kind: 'number'; unit: number }
  | { kind: 'time' }
  /** Texts, between commas. */
  | { kind: 'texts' }
  /** Settings with their values, between commas: `a = b, c = d`. */
  | { kind: 'settings' }
  | { kind: 'word'; words: Record<string, string> }
  | { kind: 'words'; words: Record<string, string> }
  /** One, or some, of another list of the fleet. */
  | { kind: 'one'; of: ListName }
  | { kind: 'some'; of: ListName }
);

export type ListName =
  'sites' | 'links' | 'arrays' | 'hosts' | 'stores' | 'engines' | 'objectives' | 'services' | 'databases';

export type Part = Record<string, unknown>;

type Setting = { name: string; value: string };

const MB = 1e6;
const GB = 1e9;
const rate = (key: string, label: string, needed = false): Member => ({
  key,
  label: `${label}, MB a second`,
  kind: 'number',
  unit: MB,
  needed,
});
const bytes = (key: string, label: string, needed = false): Member => ({
  key,
  label: `${label}, GB`,
  kind: 'number',
  unit: GB,
  needed,
});
const seconds = (key: string, label: string, needed = false): Member => ({
  key,
  label: `${label}, seconds`,
  kind: 'number',
  unit: 1,
  needed,
});
const count = (key: string, label: string): Member => ({ key, label, kind: 'number', unit: 1 });
const name: Member = { key: 'name', label: 'Name', kind: 'text', needed: true };
const site: Member = { key: 'site', label: 'Site', kind: 'one', of: 'sites', needed: true };
const array: Member = { key: 'array', label: 'On array', kind: 'one', of: 'arrays' };

/** What each list of the fleet holds, in words, and the members of its parts in the order in which they are written. */
export const lists: Record<ListName, { word: string; one: string; members: Member[] }> = {
  sites: {
    word: 'Sites',
    one: 'site',
    members: [name, { key: 'timeZone', label: 'Time zone', kind: 'text', needed: true, hint: 'such as Europe/Oslo' }],
  },
  links: {
    word: 'Links',
    one: 'link',
    members: [
      rate('bytesPerSecond', 'Carries', true),
      { key: 'roundTripMs', label: 'Round trip, ms', kind: 'number', unit: 1 },
    ],
  },
  arrays: { word: 'Arrays', one: 'array', members: [site] },
  hosts: {
    word: 'Hosts',
    one: 'host',
    members: [
      site,
      array,
      rate('writeBytesPerSecond', 'Writes', true),
      bytes('freeBytes', 'Free for a restore'),
      { key: 'engines', label: 'Engines it runs', kind: 'some', of: 'engines', hint: 'none: any' },
      { key: 'versions', label: 'Versions installed', kind: 'texts', hint: 'between commas' },
      { key: 'keys', label: 'Keys present', kind: 'texts', hint: 'names, between commas' },
      count('slots', 'Backups at once'),
      count('processors', 'Processors for backups'),
      { key: 'collation', label: 'Collation', kind: 'text' },
      { key: 'characterSet', label: 'Character set', kind: 'text' },
      { key: 'timeZone', label: 'Time zone', kind: 'text' },
      { key: 'addresses', label: 'Asks from', kind: 'texts', hint: 'IP addresses, between commas' },
      { key: 'settings', label: 'Settings', kind: 'settings', hint: 'such as bulk loading = off, between commas' },
      { key: 'openTo', label: 'Open to networks', kind: 'texts', hint: 'between commas' },
      { key: 'signsIn', label: 'Accounts that sign in', kind: 'texts', hint: 'between commas' },
      { key: 'readBy', label: 'Read by', kind: 'texts', hint: 'who can read what lies on it' },
      { key: 'encrypted', label: 'Encrypted', kind: 'flag' },
    ],
  },
  stores: {
    word: 'Stores',
    one: 'store',
    members: [
      site,
      array,
      { key: 'host', label: 'Attached to host', kind: 'one', of: 'hosts' },
      rate('readBytesPerSecond', 'Reads', true),
      rate('writeBytesPerSecond', 'Writes', true),
      bytes('capacityBytes', 'Holds'),
      count('slots', 'Backups at once'),
      { key: 'offline', label: 'Out of reach of credentials', kind: 'flag' },
      { key: 'locks', label: 'Locks copies', kind: 'flag' },
    ],
  },
  engines: {
    word: 'Engines',
    one: 'engine',
    members: [
      name,
      seconds('provisionSeconds', 'An empty instance', true),
      seconds('perSetSeconds', 'Each set', true),
      rate('restoreBytesPerSecond', 'Restores', true),
      rate('replayBytesPerSecond', 'Applies log', true),
      rate('indexBytesPerSecond', 'Builds indexes', true),
      seconds('openSeconds', 'To open', true),
      { key: 'tracksChanges', label: 'Tracks changes', kind: 'flag' },
      { key: 'mountsSets', label: 'Opens sets where they lie', kind: 'flag' },
      { key: 'loadNeeds', label: 'To load an export a host must have', kind: 'settings', hint: 'bulk loading = on' },
      { key: 'moveNeeds', label: 'To be moved its host must have', kind: 'settings', hint: 'change tracking = on' },
    ],
  },
  objectives: {
    word: 'Objectives',
    one: 'objective',
    members: [
      name,
      { key: 'rpoSeconds', label: 'May lose, minutes', kind: 'number', unit: 60, needed: true },
      { key: 'rtoSeconds', label: 'Back within, minutes', kind: 'number', unit: 60, needed: true },
      {
        key: 'against',
        label: 'Against the loss of',
        kind: 'words',
        words: {
          none: 'nothing',
          host: 'a host',
          array: 'an array',
          site: 'a site',
          hostile: 'all that credentials reach',
        },
        needed: true,
      },
      { key: 'proofDays', label: 'A proof counts for, days', kind: 'number', unit: 1 },
      { key: 'owner', label: 'Agreed by', kind: 'text' },
      { key: 'reason', label: 'Because', kind: 'text' },
      { key: 'until', label: 'An exception until', kind: 'time', hint: 'empty: until something else is agreed' },
    ],
  },
  services: { word: 'Services', one: 'service', members: [name, { key: 'owner', label: 'Owner', kind: 'text' }] },
  databases: {
    word: 'Databases',
    one: 'database',
    members: [
      name,
      { key: 'engine', label: 'Engine', kind: 'one', of: 'engines', needed: true },
      { key: 'version', label: 'Version', kind: 'text' },
      { key: 'host', label: 'Host', kind: 'one', of: 'hosts', needed: true },
      { key: 'recoveryHosts', label: 'May be restored on, first choice first', kind: 'some', of: 'hosts' },
      { key: 'objective', label: 'Objective', kind: 'one', of: 'objectives' },
      { key: 'service', label: 'Service', kind: 'one', of: 'services' },
      bytes('sizeBytes', 'Size', true),
      bytes('growthBytesPerDay', 'Grows a day'),
      bytes('changeBytesPerDay', 'Changes a day'),
      rate('logBytesPerSecond', 'Writes log'),
      bytes('logRoomBytes', 'Room for log'),
      { key: 'logMode', label: 'Its log is', kind: 'word', words: { kept: 'kept', discarded: 'discarded' } },
      seconds('detectSeconds', 'A loss is noticed after'),
      seconds('decideSeconds', 'Somebody decides after'),
      seconds('checkSeconds', 'Checks take'),
      seconds('redirectSeconds', 'Clients are sent over in'),
      {
        key: 'holds',
        label: 'Holds of its instance',
        kind: 'words',
        words: {
          accounts: 'accounts',
          jobs: 'jobs',
          certificates: 'certificates',
          keys: 'keys',
          settings: 'settings',
          image: 'the image of the machine',
        },
      },
      { key: 'tags', label: 'Words to find it by', kind: 'texts', hint: 'between commas' },
    ],
  },
};

/** The identifier of a part in addresses. */
export const idOfPart = (list: ListName, p: Part) =>
  list === 'links' ? (p.between as string[]).join('|') : String(p.id);

/** A member as it is typed. */
export function typed(m: Member, value: unknown): string {
  if (value === undefined || value === null) return '';
  if (m.kind === 'number') return String(Number(((value as number) / m.unit).toPrecision(12)));
  if (m.kind === 'texts') return (value as string[]).join(', ');
  if (m.kind === 'settings') return (value as Setting[]).map((s) => `${s.name} = ${s.value}`).join(', ');
  return typeof value === 'string' ? value : JSON.stringify(value);
}

/** A part with a member as it was typed; what is empty is left out. Null where that is no number, or no settings. */
export function put(part: Part, m: Member, text: string | string[] | boolean): Part | null {
  const next = { ...part };
  const leave = () => Object.fromEntries(Object.entries(part).filter(([key]) => key !== m.key));
  if (typeof text === 'boolean') {
    if (!text) return leave();
    next[m.key] = true;
    return next;
  }
  if (Array.isArray(text)) {
    if (text.length === 0 && !m.needed) return leave();
    next[m.key] = text;
    return next;
  }
  if (text.trim() === '') return leave();
  if (m.kind === 'number') {
    const n = Number(text.replace(',', '.'));
    if (!Number.isFinite(n)) return null;
    const value = n * m.unit;
    next[m.key] = m.unit >= 1e6 && !m.key.endsWith('PerSecond') ? Math.round(value) : Number(value.toPrecision(12));
    return next;
  }
  if (m.kind === 'settings') {
    const settings = text
      .split(',')
      .filter((t) => t.trim() !== '')
      .map((t) => /^\s*(?<name>[^=]*[^=\s])\s*=\s*(?<value>.*\S)\s*$/.exec(t)?.groups);
    if (settings.includes(undefined)) return null;
    next[m.key] = settings;
    return next;
  }
  next[m.key] =
    m.kind === 'texts'
      ? text
          .split(',')
          .map((t) => t.trim())
          .filter((t) => t !== '')
      : text;
  return next;
}
