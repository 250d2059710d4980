import { describe, expect, it } from 'vitest';
import type { Schemas } from '../../api/client';
import { stack } from './Lanes';

const run = (from: number, to: number) =>
  ({ from: new Date(from * 60_000).toISOString(), to: new Date(to * 60_000).toISOString() }) as Schemas['LaneRun'];

describe('stacking runs', () => {
  it('puts runs that do not overlap into one row', () =>
    expect(stack([run(0, 10), run(10, 20), run(25, 30)]).map((s) => s.row)).toEqual([0, 0, 0]));
  it('gives each of those that overlap a row of its own', () =>
    expect(stack([run(0, 30), run(5, 20), run(10, 40), run(21, 25)]).map((s) => s.row)).toEqual([0, 1, 2, 1]));
  it('never takes more rows than it may', () =>
    expect(
      Math.max(
        ...stack(
          Array.from({ length: 40 }, () => run(0, 60)),
          9,
        ).map((s) => s.row),
      ),
    ).toBe(8));
});
