import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schemas } from '../../api/client';
import { places, Refusal, server, show, type Asked } from '../../tests/page';
import TaskRunPage from './TaskRunPage';
import TaskRunsPage from './TaskRunsPage';

const line = (changes?: Partial<Schemas['TaskRunLine']>): Schemas['TaskRunLine'] => ({
  id: 'run-1',
  plan: 'counters',
  task: 'full',
  kind: 'full',
  database: 'tickets',
  databaseName: 'Tickets',
  due: '2026-11-23T01:00:00Z',
  state: 'done',
  started: '2026-11-23T01:00:10Z',
  ended: '2026-11-23T01:20:10Z',
  attempts: 1,
  like: 1,
  firstLike: null,
  dataBytes: 420e9,
  storedBytes: 168e9,
  expectedSeconds: 900,
  set: 'tickets-full-9',
  note: null,
  oddity: null,
  after: null,
  askedBy: null,
  ...changes,
});
const plans = { plans: [{ id: 'counters', name: 'Counters' }], uncovered: [], conflicting: [] };
const open = (answer: unknown, address = '/task-runs') => {
  const asked = server({ 'GET /api/places': places, 'GET /api/plans': plans, 'GET /api/task-runs': answer });
  show(<TaskRunsPage />, address);
  return asked;
};
const last = (asked: Asked[]) => Object.fromEntries(asked.findLast((a) => a.path === '/api/task-runs')!.query);

describe('the runs', () => {
  it('stand with what they took beside what was expected', async () => {
    open({ runs: [line({ oddity: '3 times larger than usual', askedBy: 'ada', attempts: 2 })], next: null });
    const row = (await screen.findByText('Tickets')).closest<HTMLElement>('[role=row]')!;
    const cells = within(row)
      .getAllByRole('cell')
      .map((c) => c.textContent);
    expect(cells).toEqual([
      'Mon 23 Nov 02:00',
      'done',
      'Full · counters',
      'Tickets',
      '168 GB',
      '20 min / 15 min',
      '2',
      '3 times larger than usual  asked for by ada',
    ]);
  });

  it('say nothing of a length while they are under way, and why they were left out', async () => {
    open({
      runs: [
        line({ state: 'running', ended: null, storedBytes: 0 }),
        line({
          id: 'run-2',
          state: 'leftOut',
          started: null,
          ended: null,
          attempts: 0,
          note: 'the last was still going',
        }),
      ],
      next: null,
    });
    await screen.findByText('the last was still going');
    screen.getAllByText('under way');
    expect(screen.queryByText(/20 min/)).toBeNull();
    expect(screen.getAllByRole('row')[2]!.textContent).toContain('left out');
  });

  it('are filtered by the address, and each filter goes into it', async () => {
    const asked = open({ runs: [], next: null }, '/task-runs?state=failed&database=tickets&loss=host');
    await screen.findByText(/No run is like that/);
    expect(last(asked)).toEqual({ state: 'failed', database: 'tickets', fold: 'true', take: '40' });
    fireEvent.change(screen.getByLabelText('Search database, task, note'), { target: { value: 'tape' } });
    fireEvent.click(screen.getByRole('button', { name: 'left out' }));
    fireEvent.click(screen.getByRole('button', { name: 'Only what stands out' }));
    fireEvent.click(screen.getByRole('button', { name: 'Only tickets; show all' }));
    await waitFor(() =>
      expect(last(asked)).toEqual({ state: 'leftOut', find: 'tape', odd: 'yes', fold: 'true', take: '40' }),
    );
    expect(screen.getByTestId('address').textContent).toContain('loss=host');
  });

  it('show equal failures as one row, with their number and since when, and each of them when asked', async () => {
    const asked = open({
      runs: [line({ state: 'failed', note: 'the store is full', like: 1728, firstLike: '2026-11-20T06:00:00Z' })],
      next: null,
    });
    await screen.findByText('failed 1,728 times');
    fireEvent.click(screen.getByRole('link', { name: /^since Fri 20 Nov/ }));
    await waitFor(() => expect(last(asked)).toMatchObject({ state: 'failed', plan: 'counters', database: 'tickets' }));
    expect(last(asked)['fold']).toBeUndefined();
    fireEvent.click(screen.getByRole('button', { name: 'Equal failures as one row' }));
    await waitFor(() => expect(last(asked)['fold']).toBe('true'));
  });

  it('go on from where the page ended', async () => {
    const asked = open((a: Asked) =>
      a.query.get('before')
        ? { runs: [line({ id: 'run-0', databaseName: 'Passes' })], next: null }
        : { runs: [line()], next: '2026-11-23|run-1' },
    );
    fireEvent.click(await screen.findByRole('button', { name: 'Show earlier runs' }));
    await screen.findByText('Passes');
    expect(last(asked)['before']).toBe('2026-11-23|run-1');
    screen.getByText('Tickets');
    expect(screen.queryByRole('button', { name: 'Show earlier runs' })).toBeNull();
  });
});

describe('one run', () => {
  const view = (run: Schemas['TaskRunLine'], changes?: object) => ({
    run,
    log: [],
    followed: [],
    usualSeconds: null,
    usualBytes: null,
    ...changes,
  });
  const look = (answer: unknown, more: Record<string, unknown> = {}, roles = ['operate']) => {
    const asked = server({ 'GET /api/places': places, 'GET /api/task-runs/run-1': answer, ...more });
    show(<TaskRunPage />, '/task-runs/run-1?loss=host', roles, '/task-runs/:id');
    return asked;
  };
  const bar = (word: string) => screen.getByText(word).nextElementSibling!.nextElementSibling!.textContent;

  it('stands beside what was expected and what is usual, with its size, speed and set', async () => {
    look(view(line(), { usualSeconds: 1100, usualBytes: 160e9 }));
    await screen.findByText('took');
    expect([bar('took'), bar('expected, alone'), bar('usual')]).toEqual(['20 min', '15 min', '18 min 20 s']);
    screen.getByText(/168 GB stored of 420 GB, 140 MB\/s; usual 160 GB/);
    expect(screen.getByRole('link', { name: 'tickets-full-9' }).getAttribute('href')).toBe(
      '/databases/tickets?loss=host&set=tickets-full-9',
    );
    expect(screen.queryByRole('button', { name: 'End it' })).toBeNull();
  });

  it('tells its log, what it followed, and what followed', async () => {
    look(
      view(line({ after: 'run-0', state: 'failed', note: 'store quay-s2 is full', set: null }), {
        log: [{ at: '2026-11-23T01:00:10Z', text: 'attempt 1' }],
        followed: [line({ id: 'run-2', kind: 'cleanUp', state: 'done', note: '4 copies removed' })],
      }),
    );
    await screen.findByText('attempt 1');
    expect(screen.getByTestId('task-run-state').textContent).toBe('failed');
    screen.getByText('store quay-s2 is full');
    expect(screen.getByRole('link', { name: 'this run' }).getAttribute('href')).toBe('/task-runs/run-0?loss=host');
    expect(screen.getByRole('link', { name: 'Clean up' }).parentElement!.textContent).toBe(
      'Clean up done: 4 copies removed',
    );
  });

  it('under way, says how long so far, and is ended by hand', async () => {
    let state = line({ state: 'running', ended: null, storedBytes: 0, set: null });
    const asked = look(() => view(state), {
      'POST /api/task-runs/run-1/cancel': () => {
        state = { ...state, state: 'cancelled', ended: '2026-11-23T01:10:00Z' };
        return {};
      },
    });
    await screen.findByText('so far');
    expect(screen.queryByText('took')).toBeNull();
    fireEvent.click(screen.getByRole('button', { name: 'End it' }));
    await screen.findByText('ended by hand');
    expect(asked.filter((a) => a.method === 'POST')).toHaveLength(1);
  });

  it('is not ended by who may only look, and says why an end was refused', async () => {
    const running = view(line({ state: 'running', ended: null }));
    look(running, {}, ['look']);
    await screen.findByText('so far');
    expect(screen.queryByRole('button', { name: 'End it' })).toBeNull();
  });

  it('says why an end was refused', async () => {
    look(view(line({ state: 'running', ended: null })), {
      'POST /api/task-runs/run-1/cancel': () => new Refusal(409, 'it is over already'),
    });
    fireEvent.click(await screen.findByRole('button', { name: 'End it' }));
    await screen.findByText('it is over already');
  });
});
