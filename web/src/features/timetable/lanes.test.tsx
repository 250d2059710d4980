import { fireEvent, screen } from '@testing-library/react';
import { describe, expect, it, vi } from 'vitest';
import type { Schemas } from '../../api/client';
import { show } from '../../tests/page';
import { canMove, Lanes, minutesOf, stack } from './Lanes';

const minute = (n: number) => new Date(Date.UTC(2026, 10, 24) + n * 60_000).toISOString();
const span = (from: number, to: number) => ({ from: minute(from), to: minute(to) }) as Schemas['LaneRun'];

describe('stacking runs', () => {
  it('puts runs that do not overlap into one row', () =>
    expect(stack([span(0, 10), span(10, 20), span(25, 30)]).map((s) => s.row)).toEqual([0, 0, 0]));
  it('gives each of those that overlap a row of its own', () =>
    expect(stack([span(0, 30), span(5, 20), span(10, 40), span(21, 25)]).map((s) => s.row)).toEqual([0, 1, 2, 1]));
  it('never takes more rows than it may', () =>
    expect(
      Math.max(
        ...stack(
          Array.from({ length: 40 }, () => span(0, 60)),
          9,
        ).map((s) => s.row),
      ),
    ).toBe(8));
});

const run = (more: Partial<Schemas['LaneRun']>): Schemas['LaneRun'] => ({
  plan: 'exports',
  task: 'export',
  kind: 'export',
  database: 'tickets',
  host: 'quay-h1',
  store: 'quay-s2',
  copyTo: [],
  due: minute(600),
  from: minute(600),
  to: minute(660),
  actual: false,
  state: 'expected',
  run: null,
  late: false,
  ...more,
});

const table = (runs: Schemas['LaneRun'][]): Schemas['TimetableView'] => ({
  from: minute(0),
  to: minute(1440),
  now: minute(300),
  runs,
  cut: false,
  logRuns: 0,
  sliceSeconds: 300,
  loads: [],
  windows: [{ plan: 'exports', task: 'export', from: minute(600), to: minute(690) }],
  pauses: [],
  clashes: [],
});

const keyOf = (r: Schemas['LaneRun']) => `${r.database} ${r.state}`;
// Nothing is laid out here: the lanes take their first width, of which the labels take 118.
const plot = 860 - 118;

function lanes(runs: Schemas['LaneRun'][], more: Partial<Parameters<typeof Lanes>[0]> = {}) {
  const [onChoose, onMove] = [vi.fn(), vi.fn()];
  show(
    <Lanes
      table={table(runs)}
      lanes={[{ name: 'quay-h1', runs, load: undefined }]}
      zone="Europe/Oslo"
      chosen={null}
      minutes={0}
      keyOf={keyOf}
      onChoose={onChoose}
      onMove={onMove}
      {...more}
    />,
  );
  return { onChoose, onMove };
}

const drag = (bar: Element, pixels: number) => {
  Object.assign(bar, { setPointerCapture: () => {} });
  fireEvent.pointerDown(bar, { button: 0, clientX: 500, pointerId: 1 });
  fireEvent.pointerMove(bar, { clientX: 500 + pixels / 2, pointerId: 1 });
  fireEvent.pointerMove(bar, { clientX: 500 + pixels, pointerId: 1 });
  fireEvent.pointerUp(bar, { clientX: 500 + pixels, pointerId: 1 });
};

describe('moving a run', () => {
  it('counts pixels as minutes in steps of five', () => {
    expect(minutesOf(0, 742, 24)).toBe(0);
    expect(minutesOf(742 / 24, 742, 24)).toBe(60);
    expect(minutesOf(-742 / 48, 742, 24)).toBe(-30);
    expect(minutesOf(3, 742, 24)).toBe(5);
  });

  it('drags an expected run by as far as the pointer went', () => {
    const { onMove, onChoose } = lanes([run({})]);
    drag(screen.getByRole('button', { name: /export of tickets, expected/ }), (plot / 24) * 2);
    expect(onMove).toHaveBeenCalledExactlyOnceWith(expect.objectContaining({ database: 'tickets' }), 120);
    expect(onChoose).not.toHaveBeenCalled();
  });

  it('goes on from where it was moved to before', () => {
    const { onMove } = lanes([run({})], { chosen: 'tickets expected', minutes: 60 });
    const bar = screen.getByRole('button', { name: /export of tickets/ });
    expect(Number(/translate\((\S+) 0\)/.exec(bar.getAttribute('transform')!)![1])).toBeCloseTo(plot / 24, 6);
    drag(bar, plot / 24);
    expect(onMove.mock.calls[0]![1]).toBe(120);
  });

  it('takes a press without a way as choosing', () => {
    const { onMove, onChoose } = lanes([run({})]);
    drag(screen.getByRole('button', { name: /export of tickets/ }), 0);
    expect(onMove).not.toHaveBeenCalled();
    expect(onChoose).toHaveBeenCalledOnce();
  });

  it('leaves alone what ran, what somebody asked for, and who may not plan', () => {
    const ran = run({ actual: true, state: 'done', database: 'passes' });
    const asked = run({ state: 'asked', database: 'payroll' });
    expect([run({}), ran, asked].map(canMove)).toEqual([true, false, false]);
    const { onMove, onChoose } = lanes([ran, asked]);
    for (const name of [/passes/, /payroll/]) {
      const bar = screen.getByRole('button', { name });
      drag(bar, 200);
      fireEvent.click(bar);
    }
    expect(onMove).not.toHaveBeenCalled();
    expect(onChoose).toHaveBeenCalledTimes(2);
  });

  it('moves by the arrow keys, with Shift by an hour', () => {
    const { onMove } = lanes([run({})]);
    const bar = screen.getByRole('button', { name: /export of tickets/ });
    fireEvent.keyDown(bar, { key: 'ArrowRight' });
    fireEvent.keyDown(bar, { key: 'ArrowLeft', shiftKey: true });
    expect(onMove.mock.calls.map((c) => c[1] as number)).toEqual([5, -60]);
  });

  it('says in words what a bar shows, with what is wrong', () => {
    lanes([run({ late: true }), run({ database: 'passes', actual: true, state: 'failed' })]);
    expect(
      screen.getByRole('button', { name: /tickets, expected Tue 24 Nov 11:00, 1 h, ends after its window/ }),
    ).toBeTruthy();
    expect(screen.getByRole('button', { name: /passes, failed/ })).toBeTruthy();
    expect(screen.getByText('now')).toBeTruthy();
  });
});
