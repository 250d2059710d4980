import { fireEvent, screen, waitFor } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schemas } from '../../api/client';
import '../../tests/events';
import { places, server, show } from '../../tests/page';
import { useLiveUpdates } from '../../app/live';
import TimetablePage from './TimetablePage';

const clash = (changes: object) => ({
  kind: 'queue',
  plan: 'exports',
  task: 'export',
  place: 'quay-h1',
  at: '2026-11-23T22:45:00Z',
  count: 7,
  worstSeconds: 600,
  database: 'fares',
  ...changes,
});
const run = (changes: object) => ({
  plan: 'exports',
  task: 'export',
  kind: 'export',
  database: 'fares',
  host: 'quay-h1',
  store: 'quay-s2',
  copyTo: ['hill-s1'],
  due: '2026-11-23T22:45:00Z',
  from: '2026-11-23T22:45:00Z',
  to: '2026-11-23T23:15:00Z',
  actual: false,
  state: 'expected',
  run: null,
  late: false,
  ...changes,
});
const table = (changes: object = {}) =>
  ({
    from: '2026-11-23T10:00:00Z',
    to: '2026-11-24T12:00:00Z',
    now: '2026-11-23T12:40:00Z',
    runs: [run({}), run({ plan: 'counters', database: 'tickets', host: 'quay-h2' })],
    cut: false,
    logRuns: 3120,
    sliceSeconds: 300,
    loads: [{ place: 'quay–hill', capacityBytesPerSecond: 100e6, bytesPerSecond: [1e6, 2e6] }],
    windows: [],
    pauses: [],
    clashes: [clash({})],
    ...changes,
  }) as unknown as Schemas['TimetableView'];

function Page() {
  useLiveUpdates();
  return <TimetablePage />;
}
const open = (view: unknown = table(), address = '/timetable') => {
  const asked = server({
    'GET /api/places': places,
    'GET /api/clock': { now: '2026-11-23T12:40:00Z', pace: 0, demo: true },
    'GET /api/timetable': view,
    'GET /api/pauses': [],
    'GET /api/runs': { runs: [], next: null },
    'GET /api/fleet': { rows: [] },
    'GET /api/plans': { plans: [], uncovered: [], conflicting: [] },
  });
  show(<Page />, address);
  return () => {
    const query = asked.findLast((a) => a.path === '/api/timetable')!.query;
    return [query.get('from'), query.get('to')];
  };
};

describe('the timetable', () => {
  it('shows from two hours ago until a whole day from now, so that what comes daily is always on it', async () => {
    const range = open();
    await screen.findByText(/2 runs · 3,120 log backups in the load, not drawn/);
    expect(range()).toEqual(['2026-11-23T10:00:00Z', '2026-11-24T12:00:00Z']);
  });

  it('shows weeks from the local midnight, goes on by half, and back to now', async () => {
    const range = open();
    fireEvent.click(await screen.findByRole('button', { name: 'week' }));
    await waitFor(() => expect(range()).toEqual(['2026-11-22T23:00:00Z', '2026-11-29T23:00:00Z']));
    expect(screen.getByTestId('address').textContent).toContain('span=week');
    fireEvent.click(screen.getByRole('button', { name: 'Later' }));
    await waitFor(() => expect(range()[0]).toBe('2026-11-25T23:00:00Z'));
    fireEvent.click(screen.getByRole('button', { name: 'Now' }));
    await waitFor(() => expect(range()[0]).toBe('2026-11-22T23:00:00Z'));
  });

  it.each([
    ['host', ['quay-h1', 'quay-h2']],
    ['plan', ['counters', 'exports']],
    ['store', ['hill-s1', 'quay-s2']],
    ['link', ['quay–hill']],
  ])('has lanes by %s', async (by, lanes) => {
    open(table(), `/timetable?by=${by}`);
    await screen.findByText(/2 runs/);
    for (const lane of lanes) expect(screen.getAllByText(lane).length).toBeGreaterThan(0);
  });

  it('lists clashes in words, of one run and of many', async () => {
    open(
      table({
        clashes: [
          clash({}),
          clash({ kind: 'windowMissed', count: 1, plan: 'calls', task: 'full' }),
          clash({ kind: 'storeFull', place: 'hill-s1', at: '2026-12-29T00:00:00Z', worstSeconds: 0 }),
        ],
      }),
    );
    const many = await screen.findByText('7 runs of exports, export: wait for a slot');
    expect(many.nextElementSibling!.textContent).toBe('first Mon 23 Nov 23:45, worst 10 min (fares) on quay-h1');
    screen.getByText('1 run of calls, full: ends after its window');
    expect(screen.getByText('hill-s1 will hold no more').nextElementSibling!.textContent).toBe('on Tue 29 Dec');
  });

  it('says what belongs there while nothing runs and nothing clashes', async () => {
    open(table({ runs: [], loads: [], clashes: [] }));
    await screen.findByText(/Nothing runs here\. Make a plan/);
    screen.getByText('None expected in what is shown.');
  });

  it('says that it draws a part only', async () => {
    open(table({ cut: true }));
    await screen.findByText(/2 runs shown, more are not/);
  });
});
