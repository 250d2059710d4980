/** What stands, by the kind of run that made it. */
export const copyWord: Record<string, string> = {
  view: 'view',
  clone: 'clone',
  'open-for-log': 'left open for log',
  restore: 'restored',
  'restore-in-place': 'to be put in place',
  move: 'on its way here',
  'look-at-replica': 'look at a replica',
  rehearsal: 'rehearsal',
  testRestore: 'test restore',
};

/** What an hour, a day, a week of it is left: from 1 at the beginning to 0 at its end. */
export function shareLeft(since: string | null, until: string, now: string): number {
  const [from, to, at] = [Date.parse(since ?? now), Date.parse(until), Date.parse(now)];
  return to <= from ? 0 : Math.min(1, Math.max(0, (to - at) / (to - from)));
}
