import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schemas } from '../../api/client';
import { replicaRow, runLine, runView, step } from '../../tests/fixtures';
import { places, Refusal, server, show } from '../../tests/page';
import RunPage from '../runs/RunPage';
import DrillsPage, { neededSentence, shownSentence } from './DrillsPage';
import NewDrillPage from './NewDrillPage';
import SitePage from './SitePage';

const due = (changes: Partial<Schemas['DueRow']> = {}): Schemas['DueRow'] => ({
  database: 'tickets',
  name: 'Tickets',
  loss: 'host',
  dueAt: '2026-11-27T10:00:00Z',
  overdue: true,
  provenAt: null,
  byTakingOver: null,
  why: 'never proved',
  rtoSeconds: 3600,
  host: 'hill-h1',
  byReplica: 'tickets-hill',
  day: '2026-11-27',
  ...changes,
});
const shown: Schemas['ShownView'] = {
  population: 48,
  tested: 20,
  failed: 1,
  confidence: '0.95',
  atMostFailing: 8,
  share: '0.1',
  needed: 22,
};
const programme: Schemas['ProgrammeView'] = {
  from: '2026-11-27',
  days: 28,
  aDay: 2,
  inSite: 4,
  onHost: 2,
  due: [
    due(),
    due({
      database: 'gates',
      name: 'Gates',
      overdue: false,
      provenAt: '2026-11-20T10:00:00Z',
      byTakingOver: true,
      why: null,
      day: '2026-12-03',
    }),
    due({ database: 'crew', name: 'Crew', day: null }),
  ],
  bounds: [{ what: 'host hill-h1', days: 5, most: 2, wouldNeed: 4 }],
  shown,
  draw: { seed: '202611', drawn: [{ database: 'gates', name: 'Gates', passed: true }] },
};

describe('what must be proved', () => {
  it('says in one sentence what the proofs show, and what more would show', () => {
    expect(shownSentence(shown)).toBe('With 95 % confidence at least 40 of 48 would come back.');
    expect(shownSentence({ ...shown, tested: 0 })).toMatch(/nothing is shown/);
    expect(neededSentence(shown)).toMatch(/22 of 48, all passed.*1 did not pass/);
    expect(neededSentence({ ...shown, failed: 0 })).toMatch(/: 2 more than now\.$/);
    expect(neededSentence({ ...shown, failed: 0, tested: 30 })).toMatch(/so many were tested/);
  });

  it('stands in a calendar with the load of each day, and what no day has room for is said', async () => {
    server({ 'GET /api/places': places, 'GET /api/drills/due': programme });
    show(<DrillsPage />, '/drills', ['look'], '/drills');
    expect((await screen.findByTestId('shown')).textContent).toContain('40 of 48');
    screen.getByRole('button', { name: '27 Nov: 1 of 2 tests' });
    screen.getByText('no day has room');
    screen.getByText(/4 would keep all/);
    fireEvent.click(screen.getByRole('button', { name: '3 Dec: 1 of 2 tests' }));
    await waitFor(() => expect(screen.queryByText('Tickets')).toBeNull());
    screen.getByText(/by taking over/);
  });

  it('asks for other capacities', async () => {
    const asked = server({ 'GET /api/places': places, 'GET /api/drills/due': programme });
    show(<DrillsPage />, '/drills', ['look'], '/drills');
    const field = await screen.findByLabelText('on a host');
    fireEvent.change(field, { target: { value: '4' } });
    fireEvent.keyDown(field, { key: 'Enter' });
    await waitFor(() => expect(asked.at(-1)!.query.get('onHost')).toBe('4'));
  });
});

const stepInTime = (changes: Partial<Schemas['DrillStepView']>): Schemas['DrillStepView'] => ({
  number: 1,
  kind: 'stop',
  title: 'Stop writes',
  subject: null,
  owner: 'product',
  hold: false,
  needsApproval: false,
  noWayBack: false,
  seconds: 2,
  from: 'profile',
  startsAt: 0,
  endsAt: 2,
  slack: 0,
  critical: true,
  after: [],
  ...changes,
});
const sheet: Schemas['DrillWorksheetView'] = {
  database: 'tickets',
  databaseName: 'Tickets',
  from: 'quay-h1',
  to: 'hill-h1',
  refused: [],
  lostSeconds: 42,
  lostBytes: 9e6,
  writeStopSeconds: 31,
  serviceSeconds: 31,
  approval: true,
  rpoSeconds: 30,
  rtoSeconds: 300,
  prechecks: [{ name: 'capacity', outcome: 'warned', detail: 'it writes slowly', final: false }],
  steps: [
    stepInTime({}),
    stepInTime({
      number: 2,
      kind: 'promote',
      title: 'It becomes the primary',
      noWayBack: true,
      startsAt: 2,
      endsAt: 31,
    }),
  ],
  seconds: 31,
  follower: 'tickets-quay-h1',
  canAct: null,
};
const worksheet = (answer: unknown, more: Record<string, unknown> = {}) => {
  const asked = server({
    'GET /api/places': places,
    'GET /api/fleet': { rows: [], total: 0 },
    'GET /api/replicas': {
      at: '2026-11-27T10:00:00Z',
      rows: [replicaRow({}), replicaRow({ id: 'old', state: 'ended' })],
      total: 2,
      next: null,
    },
    'POST /api/drills/worksheet': answer,
    ...more,
  });
  show(<NewDrillPage />, '/drills/new?database=tickets&kind=forced&ending=keep', ['operate'], '/drills/new');
  return asked;
};

describe('the worksheet of a drill', () => {
  it('says what could be lost, who must agree and the steps, before anything is begun', async () => {
    const asked = worksheet(sheet, {
      'POST /api/drills': new Refusal(409, 'nobody else: a drill is under way', 'replica'),
    });
    await screen.findByText('42 s');
    screen.getByText(/A second person must agree/);
    screen.getByText('it writes slowly');
    screen.getByText(/until here one can turn back/);
    expect(screen.getByText('Take the runbook along').getAttribute('href')).toContain(
      'replica=tickets-hill&kind=forced&ending=keep',
    );
    expect(asked.find((a) => a.path === '/api/drills/worksheet')!.body).toMatchObject({
      replica: 'tickets-hill',
      kind: 'forced',
      loss: 'host',
    });
    fireEvent.click(screen.getByRole('button', { name: 'Begin the drill' }));
    await screen.findByText('nobody else: a drill is under way');
  });

  it('refused, gives every reason and cannot be begun', async () => {
    worksheet({
      ...sheet,
      refused: ['it is only read from', 'nothing is known of it'],
      steps: [],
      lostSeconds: null,
      prechecks: [{ name: 'can be done', outcome: 'failed', detail: 'it is only read from', final: true }],
    });
    await screen.findByText(/only read from; nothing is known of it/);
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Begin the drill' }).disabled).toBe(true);
    expect(screen.queryByText('Take the runbook along')).toBeNull();
  });
});

describe('what needs a second person', () => {
  it('is begun in spite of what stands in the way only with a reason', async () => {
    const asked = worksheet(
      { ...sheet, prechecks: [{ name: 'settings', outcome: 'failed', detail: 'time zones differ', final: false }] },
      { 'POST /api/drills': { id: 'r-2' } },
    );
    const begin = await screen.findByRole<HTMLButtonElement>('button', { name: 'Begin the drill' });
    await screen.findByText('time zones differ');
    expect(begin.disabled).toBe(true);
    fireEvent.change(screen.getByLabelText(/Go on in spite/), { target: { value: 'both are UTC' } });
    expect(begin.disabled).toBe(false);
    fireEvent.click(begin);
    await waitFor(() =>
      expect(asked.find((a) => a.path === '/api/drills')!.body).toMatchObject({ inSpite: 'both are UTC' }),
    );
  });

  it('is refused only with a reason, and says until when somebody must decide', async () => {
    const asked = server({
      'GET /api/places': places,
      'GET /api/runs/r-1': runView({
        run: runLine({ id: 'r-1', kind: 'drill', plan: null, state: 'held', ended: null }),
        steps: [
          step({
            number: 4,
            kind: 'stop',
            state: 'waiting',
            owner: 'approve',
            choices: ['approve', 'refuse'],
            asked: '2026-11-27T10:00:00Z',
            decideBy: '2026-11-28T10:00:00Z',
          }),
        ],
      }),
      'POST /api/runs/r-1/approve': {},
    });
    show(<RunPage />, '/runs/r-1', ['approve'], '/runs/:id');
    await screen.findByText(/If nobody has approved it by .*, it is refused/);
    const refuse = screen.getByRole<HTMLButtonElement>('button', { name: 'Refuse' });
    expect(refuse.disabled).toBe(true);
    fireEvent.change(screen.getByLabelText('Why'), { target: { value: 'not before the ferries are in' } });
    fireEvent.click(refuse);
    await waitFor(() =>
      expect(asked.find((a) => a.method === 'POST')?.body).toEqual({
        step: 4,
        choice: 'refuse',
        why: 'not before the ferries are in',
      }),
    );
  });

  it('is decided alone only after a reason and the name of the database', async () => {
    const asked = server({
      'GET /api/places': places,
      'GET /api/runs/r-1': runView({
        run: runLine({ id: 'r-1', kind: 'drill', plan: null, state: 'held', ended: null }),
        steps: [step({ number: 4, kind: 'stop', state: 'waiting', owner: 'approve', choices: ['approve', 'refuse'] })],
        drill,
      }),
      'GET /api/drills/r-1/seen': seen([]),
      'POST /api/runs/r-1/alone': {},
    });
    show(<RunPage />, '/runs/r-1', ['operate'], '/runs/:id');
    fireEvent.click(await screen.findByRole('button', { name: /Nobody else can be asked/ }));
    const alone = screen.getByRole<HTMLButtonElement>('button', { name: 'Decide alone' });
    expect(alone.disabled).toBe(true);
    fireEvent.change(screen.getByLabelText('Why nobody else can be asked'), { target: { value: 'it is night' } });
    fireEvent.click(alone);
    const approve = screen.getByRole<HTMLButtonElement>('button', { name: 'I alone approve it' });
    expect(approve.disabled).toBe(true);
    fireEvent.change(screen.getByLabelText('Database'), { target: { value: runLine({}).database } });
    fireEvent.click(approve);
    await waitFor(() =>
      expect(asked.find((a) => a.method === 'POST')!.body).toEqual({
        step: 4,
        why: 'it is night',
        word: runLine({}).database,
      }),
    );
  });
});

const span = (
  from: number,
  to: number,
  here: boolean,
  there: boolean,
  clients = here || there,
): Schemas['DrillSpan'] => ({
  from: new Date(Date.UTC(2026, 10, 27, 10, 0, from)).toISOString(),
  to: new Date(Date.UTC(2026, 10, 27, 10, 0, to)).toISOString(),
  here,
  there,
  clients,
});
const seen = (
  spans: Schemas['DrillSpan'][],
  stops: Schemas['DrillSeenView']['stops'] = [],
): Schemas['DrillSeenView'] => ({
  spans,
  stops,
  withoutServiceSeconds: stops.reduce((sum, b) => sum + (b.seconds ?? 0), 0),
  bothWritable: spans.filter((x) => x.here && x.there).length,
});
const drill: Schemas['DrillView'] = {
  kind: 'switchover',
  ending: 'home',
  replica: 'tickets-hill',
  loss: 'host:quay-h1',
  from: 'quay-h1',
  to: 'hill-h1',
  plannedLostSeconds: 0,
  plannedServiceSeconds: 28,
  rpoSeconds: 30,
  rtoSeconds: 300,
  measured: null,
};

describe('a drill that runs', () => {
  it('says large what a person must do next, until when one can turn back, and what was seen', async () => {
    server({
      'GET /api/places': places,
      'GET /api/runs/r-1': runView({
        run: runLine({ id: 'r-1', kind: 'drill', plan: null, state: 'held', ended: null }),
        steps: [
          step({ number: 1, state: 'done' }),
          step({
            number: 2,
            kind: 'send',
            title: 'What is open looks right: send clients over',
            hold: true,
            state: 'running',
            owner: 'operate',
            choices: ['send-clients'],
          }),
          step({ number: 3, kind: 'promote', state: 'waiting' }),
        ],
        cancellable: true,
        drill,
      }),
      'GET /api/drills/r-1/seen': seen(
        [span(0, 9, true, false), span(10, 41, false, false)],
        [{ from: '2026-11-27T10:00:10Z', to: '2026-11-27T10:00:41Z', seconds: 31 }],
      ),
    });
    show(<RunPage />, '/runs/r-1', ['operate'], '/runs/:id');
    const next = (await screen.findAllByRole('status')).find((s) => s.textContent!.includes('send clients over'))!;
    within(next).getByText(/turn back until step 3/);
    await screen.findByText(/Nobody could write for/);
    expect(screen.getAllByText('31 s')).toHaveLength(2);
    screen.getByRole('button', { name: 'Send clients over' });
  });

  it('ended, shows what was lost and how long it took against what was agreed and planned, people apart', async () => {
    const change: Schemas['RoleChanged'] = {
      from: 'quay-h1',
      to: 'hill-h1',
      stoppedAt: '2026-11-27T10:00:10Z',
      backAt: '2026-11-27T10:00:51Z',
      lostSeconds: 4,
      markers: 120,
      markersMissing: 4,
      serviceSeconds: 41,
      peopleSeconds: 10,
      plannedServiceSeconds: 28,
      plannedLostSeconds: 5,
      checks: [{ name: 'one side writable', passed: false, detail: 'both sides took writes in 2 seconds' }],
    };
    server({
      'GET /api/places': places,
      'GET /api/runs/r-1': runView({
        run: runLine({ id: 'r-1', kind: 'drill', plan: null, state: 'done' }),
        steps: [step({})],
        drill: {
          ...drill,
          kind: 'forced',
          measured: {
            changes: [change],
            seen: [span(0, 2, true, true)],
            bothWritable: 3,
            passed: false,
            failed: ['both sides took writes in 3 seconds'],
          },
        },
      }),
      'GET /api/drills/r-1/seen': seen([span(0, 2, true, true)]),
    });
    show(<RunPage />, '/runs/r-1', ['operate'], '/runs/:id');
    expect((await screen.findByTestId('drill-passed')).textContent).toMatch(/^Did not pass/);
    screen.getByText(/4 of 120 markers missing/);
    screen.getByText(/10 s of it people were waited for, 31 s was work, 28 s was planned/);
    await screen.findByText('Both sides took writes.');
  });
});

describe('the loss of a site', () => {
  it('says who is late, who only for the others, and what another order would change', async () => {
    const row = (changes: Partial<Schemas['SiteReturnRow']>): Schemas['SiteReturnRow'] => ({
      database: 'tickets',
      name: 'Tickets',
      by: 'tickets-hill',
      host: 'hill-h1',
      whyNot: null,
      startsSeconds: 60,
      readySeconds: 100,
      serviceSeconds: 200,
      aloneSeconds: 200,
      rtoSeconds: 300,
      withinRto: true,
      lateForTheOthers: false,
      ...changes,
    });
    server({
      'GET /api/places': places,
      'GET /api/drills/site': {
        site: 'quayside',
        seconds: 900,
        returns: [
          row({}),
          row({
            database: 'crew',
            name: 'Crew',
            by: 'sets',
            serviceSeconds: 900,
            aloneSeconds: 250,
            withinRto: false,
            lateForTheOthers: true,
          }),
          row({
            database: 'lost',
            name: 'Lost',
            by: null,
            host: null,
            whyNot: 'there is no backup',
            startsSeconds: null,
            readySeconds: null,
            serviceSeconds: null,
            aloneSeconds: null,
            withinRto: false,
          }),
        ],
        orders: [
          { order: 'lessToSpare', inTime: ['crew'], late: ['tickets'] },
          { order: 'sooner', inTime: [], late: [] },
        ],
      } satisfies Schemas['SiteReturnView'],
    });
    show(<SitePage />, '/drills/site?site=quayside', ['look'], '/drills/site');
    await screen.findByText(
      /2 of 3 miss their RTO, 1 only because the others come back too; 1 cannot come back at all/,
    );
    screen.getByText('there is no backup');
    screen.getByText(/in time then: crew/);
    screen.getByText(/the same are late/);
  });
});
