import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import { places, server, show } from '../../tests/page';
import ComparePage, { readSide } from './ComparePage';
import { withMembers, withSettingsOf, type PlanDraft, type TaskDraft } from './draft';
import PlansPage from './PlansPage';
import { PutUnderPlan } from './PutUnderPlan';
import { TaskRow } from './TaskRow';

const members = { databases: ['tickets'], services: [], tags: [], engines: [], objectives: [], except: ['passes'] };
const log = {
  id: 'log',
  kind: 'log',
  recurrence: { rule: 'FREQ=MINUTELY;INTERVAL=15' },
  after: [],
  store: 'quay-s2',
  copyTo: ['hill-s1'],
  keep: { forSeconds: 14 * 86_400, newest: 0, daily: 0, weekly: 0, monthly: 0, yearly: 0, continuousSeconds: null },
  keepCopies: null,
  spreadSeconds: 0,
  offsets: [],
  attempts: 2,
} as unknown as TaskDraft;
const plan = (id: string, name: string): PlanDraft =>
  ({ id, name, members, tasks: [log], tell: { people: [] } }) as unknown as PlanDraft;
const line = (id: string, name: string) => ({
  id,
  name,
  version: 1,
  changedAt: '2026-11-23T12:00:00Z',
  changedBy: 'ada',
  members: 5,
  tasks: [{ id: 'log', kind: 'log', when: 'every 15 minutes', store: 'quay-s2', copyTo: ['hill-s1'], follows: [] }],
  worstExposureSeconds: 905,
  longestRestoreSeconds: null,
  keeps: 4,
  judged: 5,
  findings: [{ code: 'x', urgency: 'now', what: 'Its log is not kept', why: 'w', remedy: 'r', databases: ['tickets'] }],
});
const plans = {
  plans: [line('counters', 'Counters'), line('offices', 'Offices')],
  uncovered: ['paint-shop', 'chandler'],
  conflicting: [],
};
const ready = [{ name: 'Tier of minutes' }];
const answers = { 'GET /api/places': places, 'GET /api/plans': plans, 'GET /api/ready-plans': ready };

const consequences = (exposure: number | null, keeps: number) => ({
  members: 5,
  evaluated: 5,
  caught: ['tickets'],
  conflicting: [],
  newlyLeftOut: [],
  losses: [
    {
      loss: 'none',
      worstExposureSeconds: exposure,
      worstDatabase: 'Tickets',
      longestRestoreSeconds: 3600,
      slowestDatabase: 'Tickets',
      keepsRpo: keeps,
      keepsRto: 5,
      judged: 5,
    },
  ],
  week: null,
  stores: [{ store: 'quay-s2', bytesPerDay: 1e9, bytesKept: 14e9, capacityBytes: null, fullOn: null }],
  clashes: [],
  findings: [],
  differences: [],
  words: {},
  milliseconds: 20,
});

describe('members put under a plan', () => {
  it('are named once and no longer left out', () => {
    const next = withMembers(plan('counters', 'Counters'), ['passes', 'tickets', 'paint-shop']);
    expect(next.members.databases).toEqual(['tickets', 'passes', 'paint-shop']);
    expect(next.members.except).toEqual([]);
    expect(withMembers(plan('a', 'A'), []).members).toEqual(members);
  });

  it('go to the worksheet of an old plan or of a ready one, where nothing is saved yet', async () => {
    const asked = server(answers);
    show(<PutUnderPlan databases={['paint-shop', 'chandler']} />, '/fleet?loss=site');
    fireEvent.mouseDown(screen.getByRole('combobox', { name: 'Put 2 under' }));
    fireEvent.click(await screen.findByRole('option', { name: 'Offices' }));
    expect(screen.getByTestId('address').textContent).toBe('/plans/offices?loss=site&add=paint-shop,chandler');
    expect(asked.every((a) => a.method === 'GET')).toBe(true);
  });

  it('are chosen among those that no plan covers', async () => {
    server(answers);
    show(<PlansPage />, '/plans', ['plan'], '/plans');
    fireEvent.click(await screen.findByLabelText('Put chandler under a plan'));
    fireEvent.mouseDown(screen.getByRole('combobox', { name: 'Put it under' }));
    fireEvent.click(await screen.findByRole('option', { name: 'A new plan: Tier of minutes' }));
    expect(screen.getByTestId('address').textContent).toBe('/plans/new?ready=0&add=paint-shop');
  });
});

describe('the list of plans', () => {
  it('says what each could lose, how soon it is back, and how many objectives it keeps', async () => {
    server(answers);
    show(<PlansPage />, '/plans', ['look']);
    const links = await screen.findAllByRole('link', { name: 'Counters' });
    const row = links[0]!.closest('[role=row]') as HTMLElement;
    for (const text of ['15 min 5 s', 'no way back', '4 of 5', '1, 1 now', 'every 15 minutes'])
      expect(within(row).getByText(text, { exact: false })).toBeTruthy();

    // What is most urgent names the plan it is of.
    const urgent = within(screen.getByRole('complementary', { name: 'Not covered' }));
    expect(urgent.getAllByText('Its log is not kept').length).toBe(2);
    expect(urgent.getByRole('link', { name: 'Counters' }).getAttribute('href')).toBe('/plans/counters');
    expect(screen.queryByRole('button', { name: 'New plan…' })).toBeNull();
    expect(screen.queryByLabelText('Put chandler under a plan')).toBeNull();
  });
});

describe('two plans side by side', () => {
  const comparison = {
    left: { plan: plan('counters', 'Counters'), version: 3, words: { log: 'every 15 minutes' } },
    right: { plan: plan('offices', 'Offices'), version: 1, words: { log: 'every 30 minutes' } },
    differences: [{ member: 'tasks.log.recurrence.rule', before: 'INTERVAL=15', after: 'INTERVAL=30' }],
  };

  it('reads a plan and which version of it', () => {
    expect(readSide('offices')).toEqual({ plan: 'offices', version: undefined });
    expect(readSide('offices@3')).toEqual({ plan: 'offices', version: 3 });
  });

  it('judges both on the databases of the left one, and says which loses more', async () => {
    const asked = server({
      'GET /api/plan-comparison': comparison,
      'POST /api/consequences': (a: { body: unknown }) =>
        (a.body as PlanDraft).name === 'Counters' ? consequences(900, 5) : consequences(1800, 0),
    });
    show(<ComparePage />, '/plans/compare?left=counters@3&right=offices');
    expect(await screen.findByText('every 30 minutes')).toBeTruthy();
    expect(await screen.findByText('30 min')).toBeTruthy();
    expect(screen.getByText('RPO kept by 0 of 5, RTO by 5')).toBeTruthy();
    expect(screen.getByText(/\(more\)/)).toBeTruthy();
    expect(screen.getByText('INTERVAL=30')).toBeTruthy();
    expect(asked[0]!.query.get('leftVersion')).toBe('3');
    const judged = asked.filter((a) => a.method === 'POST').map((a) => a.body as PlanDraft);
    expect(judged.map((p) => p.id)).toEqual(['counters', 'counters']);
    expect(judged[1]!.members).toEqual(members);

    fireEvent.click(screen.getByRole('switch'));
    await waitFor(() => expect(asked.at(-1)!.body).toMatchObject({ id: 'offices' }));
  });
});

describe('a task of the worksheet', () => {
  const words = (a: { query: URLSearchParams }) =>
    a.query.get('text') === 'now and then'
      ? { rule: null, start: null, said: null, next: [], error: 'cannot be understood', examples: [] }
      : { rule: 'FREQ=DAILY', start: null, said: 'daily', next: ['2026-11-24T00:00:00Z'], error: null, examples: [] };
  const row = (onChange: (t: TaskDraft) => void, databases: string[] = [], task = log, onShare = () => {}) => (
    <TaskRow
      task={task}
      onShare={onShare}
      others={[]}
      zone="Europe/Oslo"
      said="every 15 minutes"
      onChange={onChange}
      onRemove={() => {}}
      databases={databases}
      plan="counters"
    />
  );

  it('shows its recurrence in words and when it is due next', async () => {
    server({ ...answers, 'GET /api/words': words });
    show(row(() => {}));
    expect(screen.getByLabelText<HTMLInputElement>('When log').value).toBe('every 15 minutes');
    expect(await screen.findByText('next Tue 24 Nov 01:00')).toBeTruthy();
  });

  it('gives what is typed on as words, and says what cannot be understood', async () => {
    server({ ...answers, 'GET /api/words': words });
    const changes: TaskDraft[] = [];
    show(row((t) => changes.push(t)));
    fireEvent.change(screen.getByLabelText('When log'), { target: { value: 'now and then' } });
    expect(changes.at(-1)!.recurrence).toMatchObject({ words: 'now and then', zone: 'Europe/Oslo' });
    expect(await screen.findByText('cannot be understood')).toBeTruthy();
  });

  it('takes a rule of retention over only when it can be read', () => {
    server({ ...answers, 'GET /api/words': words });
    const changes: TaskDraft[] = [];
    show(row((t) => changes.push(t)));
    fireEvent.change(screen.getByLabelText('Keep'), { target: { value: 'for ever' } });
    expect(changes).toEqual([]);
    fireEvent.change(screen.getByLabelText('Keep'), { target: { value: '3 d, 4 weekly' } });
    expect(changes.at(-1)!.keep).toMatchObject({ forSeconds: 3 * 86_400, weekly: 4 });
  });

  it('unfolds its zone, its exceptions and the next runs, and keeps exceptions when its words are typed anew', async () => {
    const asked: string[] = [];
    server({
      ...answers,
      'GET /api/words': (a: { query: URLSearchParams }) => {
        asked.push(a.query.toString());
        return words(a);
      },
    });
    const changes: TaskDraft[] = [];
    const task = {
      ...log,
      recurrence: { ...log.recurrence, start: '2026-01-01T00:00:00', exceptDays: ['2026-12-24'], exceptTimes: [] },
    };
    show(row((t) => changes.push(t), [], task));
    fireEvent.click(screen.getByRole('button', { name: /More/ }));
    expect(screen.getByTestId('next-runs').textContent).toBe('');
    await waitFor(() => expect(screen.getByTestId('next-runs').textContent).toBe('Next: Tue 24 Nov 01:00'));
    expect(asked.at(-1)).toContain('from=2026-01-01T00%3A00%3A00&except=2026-12-24');
    const not = screen.getByLabelText('But not on');
    fireEvent.change(not, { target: { value: '2026-12-31T23:30:00' } });
    fireEvent.keyDown(not, { key: 'Enter' });
    expect(changes.at(-1)!.recurrence).toMatchObject({
      exceptDays: ['2026-12-24'],
      exceptTimes: ['2026-12-31T23:30:00'],
    });
    fireEvent.change(screen.getByLabelText('When log'), { target: { value: 'daily 01:00' } });
    expect(changes.at(-1)!.recurrence).toMatchObject({ words: 'daily 01:00', exceptDays: ['2026-12-24'] });
    expect(changes.at(-1)!.recurrence!.rule).toBeUndefined();
  });

  it('says which set of a period is kept only where periods are kept', () => {
    server({ ...answers, 'GET /api/words': words });
    const changes: TaskDraft[] = [];
    const { unmount } = show(row((t) => changes.push(t)));
    fireEvent.click(screen.getByRole('button', { name: /More/ }));
    expect(screen.queryByLabelText('Of each day, week…')).toBeNull();
    unmount();
    show(row((t) => changes.push(t), [], { ...log, keep: { ...log.keep, weekly: 4, lastOfPeriod: true } }));
    fireEvent.click(screen.getByRole('button', { name: /More/ }));
    fireEvent.mouseDown(screen.getByLabelText('Of each day, week…'));
    fireEvent.click(screen.getByRole('option', { name: 'keep the first' }));
    expect(changes.at(-1)!.keep).toMatchObject({ weekly: 4, lastOfPeriod: false });
  });

  it('gives its places and its care to all tasks that make sets, and leaves theirs to the others', () => {
    const draft = {
      tasks: [
        { ...log, store: 'north-o1', key: 'k', attempts: 5 },
        { ...log, id: 'full', kind: 'full' },
        { ...log, id: 'v', kind: 'verify' },
      ],
    };
    const after = withSettingsOf(draft as unknown as PlanDraft, draft.tasks[0]!);
    expect(after.tasks.map((t) => [t.id, t.store, t.key, t.attempts])).toEqual([
      ['log', 'north-o1', 'k', 5],
      ['full', 'north-o1', 'k', 5],
      ['v', log.store, log.key, log.attempts],
    ]);
    expect(after.tasks[1]!.recurrence).toEqual(log.recurrence);
    server({ ...answers, 'GET /api/words': words });
    let shared = 0;
    show(
      row(
        () => {},
        [],
        log,
        () => shared++,
      ),
    );
    fireEvent.click(screen.getByRole('button', { name: /More/ }));
    fireEvent.click(screen.getByRole('button', { name: 'Same care for all sets' }));
    expect(shared).toBe(1);
  });

  it('offers a run only when it is saved, on any database it catches', () => {
    server({ ...answers, 'GET /api/words': words });
    const { unmount } = show(row(() => {}));
    fireEvent.click(screen.getByRole('button', { name: /More/ }));
    expect(screen.queryByRole('group', { name: 'Ask for a run' })).toBeNull();
    unmount();
    show(row(() => {}, ['tickets', 'passes']));
    fireEvent.click(screen.getByRole('button', { name: /More/ }));
    const group = screen.getByRole('group', { name: 'Ask for a run' });
    expect(within(group).getByLabelText<HTMLInputElement>('On').value).toBe('tickets');
  });
});
