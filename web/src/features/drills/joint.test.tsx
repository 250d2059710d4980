import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schemas } from '../../api/client';
import { runLine, runView, step } from '../../tests/fixtures';
import { places, Refusal, server, show } from '../../tests/page';
import RunPage from '../runs/RunPage';
import JointDrillPage from './JointDrillPage';

const member = (changes: Partial<Schemas['JointMemberView']> = {}): Schemas['JointMemberView'] => ({
  database: 'tickets',
  name: 'Tickets',
  by: 'tickets-hill',
  host: 'hill-h1',
  whyNot: null,
  lostSeconds: 22,
  serviceSeconds: 490,
  rpoSeconds: 900,
  rtoSeconds: 3600,
  failed: [],
  ...changes,
});
const sheet: Schemas['JointWorksheetView'] = {
  title: 'site Quayside',
  loss: 'site:quayside',
  seconds: 4000,
  approval: true,
  members: [
    member(),
    member({ database: 'ais', name: 'Vessel tracks', by: null, serviceSeconds: 6400 }),
    member({ database: 'paint', name: 'Paint shop', by: null, host: null, whyNot: 'there are no backup sets' }),
  ],
  refused: null,
};

const open = (answer: Schemas['JointWorksheetView'], more: Record<string, unknown> = {}) => {
  const asked = server({
    'GET /api/places': places,
    'GET /api/drills/joint': [
      { of: 'service', id: 'ticketing', name: 'Ticketing', databases: 4 },
      { of: 'site', id: 'quayside', name: 'Quayside', databases: 45 },
    ],
    'POST /api/drills/joint/worksheet': answer,
    ...more,
  });
  show(<JointDrillPage />, '/drills/joint?of=site&id=quayside', ['operate'], '/drills/joint');
  return asked;
};

describe('a drill of several databases', () => {
  it('says of each how it comes back and what it costs, and who is left out', async () => {
    const asked = open(sheet, {
      'POST /api/drills/joint': new Refusal(409, 'tickets: nobody else: a drill is under way', 'id'),
    });
    await screen.findByText(/1 changes roles, 1 is restored from sets/);
    screen.getByText(/none would take longer than its RTO|1 would take longer than their RTO/);
    screen.getByText(/A second person must agree, once for all/);
    const rows = screen.getByRole('region', { name: 'Databases' });
    within(rows).getByText('left out: there are no backup sets');
    within(rows).getByText(/sets, restored aside, on hill-h1/);

    expect(asked.find((a) => a.path === '/api/drills/joint/worksheet')!.body).toEqual({
      of: 'site',
      id: 'quayside',
      kind: 'forced',
      ending: 'home',
      loss: null,
    });
    fireEvent.click(screen.getByRole('button', { name: 'Begin the drill' }));
    await screen.findByText('tickets: nobody else: a drill is under way');
  });

  it('of a site is a loss or a restore test as after one, which changes no roles', async () => {
    const asked = open({ ...sheet, approval: false, members: [member({ by: null })] });
    fireEvent.mouseDown(await screen.findByLabelText('Kind'));
    expect(screen.getAllByRole('option').map((o) => o.textContent)).toEqual([
      'Taken for lost',
      'Restore test: sets restored aside, checked',
    ]);
    fireEvent.click(screen.getByRole('option', { name: /Restore test/ }));
    await screen.findByText('1 is restored aside, from sets');
    screen.getByText(/Nothing that serves clients is touched/);
    expect(screen.queryByLabelText('At the end')).toBeNull();
    fireEvent.mouseDown(screen.getByLabelText('As after'));
    fireEvent.click(screen.getByRole('option', { name: 'stolen credentials' }));
    await waitFor(() =>
      expect(asked.findLast((a) => a.path === '/api/drills/joint/worksheet')!.body).toEqual({
        of: 'site',
        id: 'quayside',
        kind: 'restoreTest',
        ending: 'keep',
        loss: 'hostile',
      }),
    );
  });

  it('refused, says why and cannot be begun', async () => {
    open({
      ...sheet,
      refused: 'tickets: settings: collations differ',
      members: [member({ failed: ['settings: collations differ'] })],
    });
    await screen.findByText(/It cannot be begun: tickets: settings/);
    screen.getByText('stands in the way: settings: collations differ');
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Begin the drill' }).disabled).toBe(true);
  });
});

const joint = (ended: boolean): Schemas['JointDrillView'] => ({
  of: 'group Boarding gates',
  kind: 'switchover',
  ending: 'home',
  loss: 'host',
  members: [
    {
      database: 'scans',
      name: 'Gate scans',
      run: 'c-1',
      replica: 'scans-hill',
      host: 'hill-h1',
      plannedLostSeconds: 0,
      plannedServiceSeconds: 70,
      rpoSeconds: 30,
      rtoSeconds: 300,
    },
    {
      database: 'passes',
      name: 'Gate pass cache',
      run: 'c-2',
      replica: 'passes-hill',
      host: 'hill-h1',
      plannedLostSeconds: 0,
      plannedServiceSeconds: 70,
      rpoSeconds: 30,
      rtoSeconds: 300,
    },
  ],
  measured: {
    lostAt: '2026-11-27T10:00:00Z',
    passed: 1,
    members: [
      {
        database: 'scans',
        run: 'c-1',
        lostSeconds: 0,
        serviceSeconds: 81,
        backSeconds: 82,
        rtoSeconds: 300,
        passed: true,
        note: null,
      },
      {
        database: 'passes',
        run: ended ? 'c-2' : null,
        lostSeconds: ended ? 41 : null,
        serviceSeconds: ended ? 90 : null,
        backSeconds: null,
        rtoSeconds: 300,
        passed: false,
        note: ended ? 'it lost 41 s, 30 s is allowed' : null,
      },
    ],
  },
});

describe('its run', () => {
  it('shows each database with how far it is, and asks people once', async () => {
    server({
      'GET /api/places': places,
      'GET /api/runs/r-1': runView({
        run: runLine({ id: 'r-1', kind: 'joint-drill', plan: null, state: 'held', ended: null }),
        steps: [
          step({
            number: 1,
            kind: 'tell',
            title: 'Everybody who must know has been told',
            hold: true,
            state: 'running',
            owner: 'operate',
            choices: ['told'],
          }),
          step({ number: 2, kind: 'go', title: 'All stop and change roles', state: 'waiting' }),
        ],
        cancellable: true,
        joint: joint(false),
        followed: [runLine({ id: 'c-1', kind: 'drill', state: 'held', ended: null })],
      }),
    });
    show(<RunPage />, '/runs/r-1', ['operate'], '/runs/:id');
    await screen.findByRole('heading', { name: /Drill of group Boarding gates/ });
    const next = (await screen.findAllByRole('status')).find((s) => s.textContent!.includes('has been told'))!;
    within(next).getByText(/turn back until step 2/);
    const rows = screen.getByRole('region', { name: 'Databases of the drill' });
    expect(within(rows).getByText('Gate scans').closest('a')!.getAttribute('href')).toBe('/runs/c-1');
    within(rows).getByText('waits its turn');
    expect(screen.queryByText(/came back within what was agreed/)).toBeNull();
  });

  it('ended, says how many came back in time, and of those that did not why', async () => {
    server({
      'GET /api/places': places,
      'GET /api/runs/r-1': runView({
        run: runLine({ id: 'r-1', kind: 'joint-drill', plan: null, state: 'done' }),
        steps: [step({ number: 1, state: 'done' })],
        joint: joint(true),
        followed: [runLine({ id: 'c-1', kind: 'drill' }), runLine({ id: 'c-2', kind: 'drill' })],
      }),
    });
    show(<RunPage />, '/runs/r-1', ['operate'], '/runs/:id');
    await screen.findByText('1 of 2 came back within what was agreed');
    const rows = screen.getByRole('region', { name: 'Databases of the drill' });
    within(rows).getByText('it lost 41 s, 30 s is allowed');
    await waitFor(() => within(rows).getByText(/1 min 22 s/));
  });
});
