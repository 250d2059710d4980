/** What a figure supposes, of one database. */
export const lossWord: Record<string, string> = {
  none: 'a bad change',
  host: 'its host lost',
  array: 'its array lost',
  site: 'its site lost',
  hostile: 'stolen credentials',
};

const clashes: Record<string, [one: string, many: string]> = {
  windowMissed: ['ends after its window', 'end after their window'],
  overlap: ['is due while the last still runs', 'are due while the last still runs'],
  queue: ['waits for a slot', 'wait for a slot'],
  linkSaturated: ['is full for half an hour or longer', 'are full for half an hour or longer'],
  storeFull: ['will hold no more', 'will hold no more'],
};

/** What happens to so many runs, or to a place, that get in each other's way. */
export const clashWord = (kind: string, count = 1) => clashes[kind]?.[count === 1 ? 0 : 1] ?? kind;
