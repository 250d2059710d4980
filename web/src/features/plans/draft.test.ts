import { describe, expect, it } from 'vitest';
import { keepFor, keepWords, nextTask, readKeep, readSpan, spanWords, type PlanDraft } from './draft';

describe('retention in words', () => {
  it.each(['14 d', 'newest 3', '7 daily, 4 weekly, 12 monthly, 2 yearly', '14 d, any instant of 7 d', '36 h'])(
    'reads back what it says: %s',
    (words) => expect(keepWords(readKeep(words)!)).toBe(words),
  );
  it('takes weeks and long words', () => {
    expect(readKeep('2 weeks')!.forSeconds).toBe(14 * 86_400);
    expect(keepWords(readKeep('4 h')!)).toBe('4 h');
    expect(keepWords(readKeep('48 hours')!)).toBe('2 d');
    expect(readKeep('any instant of 2 weeks')!.continuousSeconds).toBe(14 * 86_400);
  });
  it.each(['', 'long', '14', '3 bananas'])('does not guess what %j means', (words) =>
    expect(readKeep(words)).toBeNull(),
  );
});

describe('spans in words', () => {
  it.each([
    ['45 min', 2700],
    ['6 h', 21_600],
    ['90 s', 90],
  ])('reads and says %s', (words, seconds) => {
    expect(readSpan(words)).toBe(seconds);
    expect(spanWords(seconds)).toBe(words);
  });
  it('tells empty from unreadable', () => {
    expect(readSpan('')).toBeNull();
    expect(readSpan('soon')).toBeUndefined();
    expect(spanWords(null)).toBe('');
  });
});

describe('the next task', () => {
  const empty: PlanDraft = {
    id: 'p',
    name: 'P',
    members: { databases: [], services: [], tags: [], engines: [], objectives: [], except: [] },
    tasks: [],
    tell: { people: [], failure: true, lateness: true, silenceSeconds: null, recovery: true },
  };
  it('goes from full to differential to log, and takes over store and retention', () => {
    const full = { ...nextTask(empty, 'Europe/Oslo'), store: 's1', copyTo: ['s2'], keep: keepFor(28) };
    expect(full.kind).toBe('full');
    const differential = nextTask({ ...empty, tasks: [full] }, 'Europe/Oslo');
    expect(differential).toMatchObject({ kind: 'differential', store: 's1', copyTo: ['s2'], keep: keepFor(28) });
    const log = nextTask({ ...empty, tasks: [full, differential] }, 'Europe/Oslo');
    expect(log.kind).toBe('log');
    expect(nextTask({ ...empty, tasks: [full, differential, log] }, 'Europe/Oslo').id).toBe('log 2');
  });
});
