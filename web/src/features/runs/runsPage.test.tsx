import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import { runLine as line } from '../../tests/fixtures';
import { places, server, show, type Asked } from '../../tests/page';
import RunsPage from './RunsPage';

const plans = { plans: [{ id: 'counters', name: 'Counters' }], uncovered: [], conflicting: [] };
const open = (answer: unknown, address = '/runs') => {
  const asked = server({ 'GET /api/places': places, 'GET /api/plans': plans, 'GET /api/runs': answer });
  show(<RunsPage />, address);
  return asked;
};
const last = (asked: Asked[]) => Object.fromEntries(asked.findLast((a) => a.path === '/api/runs')!.query);

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
      '3 times larger than usual asked for by ada',
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
    const asked = open({ runs: [], next: null }, '/runs?state=failed&database=tickets&loss=host');
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
