import { fireEvent, screen, waitFor } from '@testing-library/react';
import { useState } from 'react';
import { describe, expect, it } from 'vitest';
import type { Schemas } from '../../api/client';
import { places, server, show } from '../../tests/page';
import { ChosenRun } from './ChosenRun';
import { Compare } from './Compare';
import { NowPanel } from './NowPanel';
import { PausePanel } from './PausePanel';
import { ProposalPanel } from './ProposalPanel';

const crowd = (missed: number, waiting: number, stretch: number): Schemas['CrowdView'] => ({
  mostAtOnce: 3,
  windowsMissed: missed,
  waitingSeconds: waiting,
  stretch,
  longestSeconds: 3600,
});

describe('a week before and after', () => {
  it('marks what gets worse', () => {
    show(<Compare before={crowd(22, 600, 1.2)} after={crowd(8, 900, 1.1)} />);
    const cell = (text: string) => screen.getByText(text).className;
    expect(screen.getByText('22')).toBeTruthy();
    expect(cell('8')).toBe(cell('1.1 times'));
    expect(cell('15 min')).not.toBe(cell('8'));
  });
});

const expected: Schemas['LaneRun'] = {
  plan: 'exports',
  task: 'export',
  kind: 'export',
  database: 'tickets',
  host: 'quay-h1',
  store: 'quay-s2',
  copyTo: ['hill-s1'],
  due: '2026-11-24T00:00:00Z',
  from: '2026-11-24T00:10:00Z',
  to: '2026-11-24T01:10:00Z',
  actual: false,
  state: 'expected',
  run: null,
  late: true,
};

function Chosen({ run }: { run: Schemas['LaneRun'] }) {
  const [minutes, setMinutes] = useState(0);
  return <ChosenRun run={run} zone="Europe/Oslo" minutes={minutes} onMove={setMinutes} />;
}

describe('the chosen run', () => {
  const answers = {
    'GET /api/plans/exports': { plan: { tasks: [{ id: 'export', offsets: [] }] }, version: 2, versions: [], words: {} },
    'GET /api/offsets': { seconds: 600 },
    'POST /api/timetable/measure': { moves: [], forced: [], before: crowd(22, 600, 1.2), after: crowd(8, 0, 1.1) },
    'POST /api/timetable/accept': { plans: 1, moves: 1 },
  };

  it('is measured where it is moved to before it is saved, from where it starts now', async () => {
    const asked = server(answers);
    show(<Chosen run={expected} />);
    expect(screen.getByText('ends after its window')).toBeTruthy();
    fireEvent.click(screen.getByRole('button', { name: '15 min later' }));
    expect(await screen.findByText('15 min later each time')).toBeTruthy();
    expect(await screen.findByText('22')).toBeTruthy();
    expect(asked.some((a) => a.path === '/api/timetable/accept')).toBe(false);
    fireEvent.click(screen.getByRole('button', { name: 'Save the move' }));
    await waitFor(() =>
      expect(asked.find((a) => a.path === '/api/timetable/accept')?.body).toEqual({
        moves: [{ plan: 'exports', task: 'export', database: 'tickets', fromSeconds: 600, toSeconds: 1500 }],
      }),
    );
    await waitFor(() => expect(screen.queryByText('15 min later each time')).toBeNull());
  });

  it('says when it cannot be earlier, and can be left where it is', async () => {
    server(answers);
    show(<Chosen run={expected} />);
    fireEvent.click(screen.getByRole('button', { name: '15 min earlier' }));
    expect(await screen.findByText(/cannot start before the task is due/)).toBeTruthy();
    fireEvent.click(screen.getByRole('button', { name: 'Leave it' }));
    expect(screen.queryByText(/cannot start before/)).toBeNull();
  });

  it('cannot be moved when it ran, was asked for, or one may not plan', () => {
    server(answers);
    show(<Chosen run={{ ...expected, actual: true, state: 'done', run: 'r1' }} />).unmount();
    const { unmount } = show(<Chosen run={{ ...expected, state: 'asked', run: 'r2' }} />);
    expect(screen.queryByRole('button', { name: '15 min later' })).toBeNull();
    expect(screen.getByRole('link', { name: 'the run' }).getAttribute('href')).toBe('/runs/r2');
    unmount();
    show(<Chosen run={expected} />, '/', ['look']);
    expect(screen.queryByRole('button', { name: '15 min later' })).toBeNull();
  });
});

describe('the proposal', () => {
  const move = (database: string) => ({ plan: 'exports', task: 'export', database, fromSeconds: 0, toSeconds: 3600 });
  const proposal = {
    moves: [move('tickets'), move('passes')],
    forced: [{ plan: 'calls', task: 'full', database: 'call-centre', reason: 'it would not end within its window' }],
    before: crowd(22, 600, 1.2),
    after: crowd(8, 0, 1.1),
  };

  it('is taken over one by one', async () => {
    const asked = server({
      'GET /api/timetable/proposal': proposal,
      'POST /api/timetable/accept': { plans: 1, moves: 1 },
    });
    show(<ProposalPanel />);
    fireEvent.click(screen.getByRole('button', { name: 'Propose start times' }));
    fireEvent.click(await screen.findByLabelText('export of tickets'));
    expect(screen.getByText(/it would not end within its window/)).toBeTruthy();
    fireEvent.click(screen.getByRole('button', { name: 'Take over 1 moves' }));
    expect((await screen.findByTestId('accepted')).textContent).toContain('1 moves');
    expect(asked.at(-1)!.body).toEqual({ moves: [move('passes')] });
  });

  it('says when nothing is better, and shows no button to who may not plan', async () => {
    server({ 'GET /api/timetable/proposal': { ...proposal, moves: [] } });
    const { unmount } = show(<ProposalPanel />);
    fireEvent.click(screen.getByRole('button', { name: 'Propose start times' }));
    expect(await screen.findByText(/No other start times are better/)).toBeTruthy();
    unmount();
    server({ 'GET /api/timetable/proposal': proposal });
    show(<ProposalPanel />, '/', ['look']);
    fireEvent.click(screen.getByRole('button', { name: 'Propose start times' }));
    expect(await screen.findByRole('table')).toBeTruthy();
    expect(screen.queryByRole('button', { name: /Take over/ })).toBeNull();
  });
});

describe('what runs now', () => {
  const run = (id: string, more: object) => ({
    id,
    plan: 'p',
    task: 'full',
    kind: 'full',
    database: id,
    databaseName: id,
    due: '1970-01-01T00:00:00Z',
    state: 'running',
    started: '1970-01-01T00:00:00Z',
    ended: null,
    attempts: 1,
    expectedSeconds: 60,
    ...more,
  });

  it('is counted apart from what waits, and each leads to its run', async () => {
    const asked = server({
      'GET /api/runs': {
        runs: [run('tickets', {}), run('passes', { state: 'waiting' }), run('berths', { expectedSeconds: 0 })],
        next: null,
      },
    });
    show(<NowPanel />, '/timetable?loss=site');
    expect(await screen.findByText(/Runs now: 2, 1 wait/)).toBeTruthy();
    expect(screen.getByRole('link', { name: 'Full of tickets' }).getAttribute('href')).toBe('/runs/tickets?loss=site');
    expect(screen.getByText(/of 1 min/)).toBeTruthy();
    expect(asked[0]!.query.get('state')).toBe('running,waiting');
  });

  it('says so when there is nothing', async () => {
    server({ 'GET /api/runs': { runs: [], next: null } });
    show(<NowPanel />);
    expect(await screen.findByText('Nothing at this moment.')).toBeTruthy();
  });
});

describe('pauses', () => {
  const paused = {
    id: 7,
    from: '2026-11-24T00:00:00Z',
    to: null,
    plan: null,
    database: 'tickets',
    host: null,
    store: null,
    reason: 'new disks',
    who: 'ada',
  };

  it('are listed with their reason and ended by a press', async () => {
    const asked = server({
      'GET /api/places': places,
      'GET /api/plans': { plans: [], uncovered: [], conflicting: [] },
      'GET /api/choices': { services: [], tags: [], engines: [], objectives: [], databases: ['tickets'] },
      'GET /api/pauses': [paused],
      'POST /api/pauses/7/end': {},
    });
    show(<PausePanel />);
    expect(await screen.findByText(/new disks/)).toBeTruthy();
    fireEvent.click(screen.getByRole('button', { name: /End/ }));
    await waitFor(() => expect(asked.some((a) => a.path === '/api/pauses/7/end')).toBe(true));
  });
});
