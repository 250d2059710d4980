import type { Schemas } from '../../api/client';

export const drillKindWord: Record<Schemas['DrillKind'], string> = {
  restoreTest: 'Restore test',
  switchover: 'Switchover',
  forced: 'Forced failover',
  automatic: 'Automatic failover',
  siteLoss: 'Loss of a site',
  failback: 'The way home',
};

export const endingWord: Record<Schemas['DrillEnding'], string> = {
  keep: 'roles stay changed',
  home: 'roles change back',
  part: 'replication ends',
};

export const lossWord: Record<Schemas['LossKind'], string> = {
  none: 'a bad change',
  host: 'loss of its host',
  array: 'loss of its array',
  site: 'loss of its site',
  hostile: 'stolen credentials',
};

/** Who does a step, in words. */
export const ownerWord = (owner: string) =>
  owner === 'product' ? 'Imbrek' : owner === 'approve' ? 'a second person' : 'a person';
