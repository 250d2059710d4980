import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schemas } from '../../api/client';
import { places, Refusal, server, show, type Asked } from '../../tests/page';
import { ConsequenceColumn } from './ConsequenceColumn';
import type { Consequences, PlanDraft } from './draft';
import { RetentionPanel } from './RetentionPanel';

const plan = { id: 'counters', name: 'Counters', tasks: [] } as unknown as PlanDraft;
const figures = (loss: string, worst: number | null, back: number | null, keepsRpo = 5, keepsRto = 5) => ({
  loss,
  worstExposureSeconds: worst,
  worstDatabase: 'Tickets',
  longestRestoreSeconds: back,
  slowestDatabase: 'Fares',
  keepsRpo,
  keepsRto,
  judged: 5,
});
const consequences = (changes: object = {}) =>
  ({
    members: 5,
    evaluated: 5,
    milliseconds: 181.6,
    week: null,
    losses: [figures('none', 905, 1500), figures('site', null, null, 3, 2)],
    stores: [
      { store: 'hill-s1', bytesPerDay: 40e9, bytesKept: 1.2e12, fullOn: '2026-12-29T00:00:00Z' },
      { store: 'quay-s2', bytesPerDay: 60e9, bytesKept: 2e12, fullOn: null },
    ],
    clashes: [],
    findings: [],
    differences: [],
    ...changes,
  }) as unknown as Consequences;
const open = (c: Consequences | undefined, answers: Record<string, unknown> = {}, error: Error | null = null) => {
  const asked = server({ 'GET /api/places': places, ...answers });
  show(<ConsequenceColumn consequences={c} error={error} busy={false} plan={plan} zone="Europe/Oslo" />);
  return asked;
};

describe('what a plan comes to', () => {
  it('is the worst exposure and the longest restore of each loss, and how many keep their objective', () => {
    open(consequences());
    const cells = within(screen.getByRole('table'))
      .getAllByRole('cell')
      .map((c) => c.textContent);
    expect(cells).toEqual([
      'a bad change',
      '15 min 5 sRPO kept',
      '25 minRTO kept',
      'its site lost',
      'all of it2 of 5 over RPO',
      'no way back3 of 5 over RTO',
    ]);
    expect(screen.getByTestId('designed-none').title).toBe('Tickets');
    expect(screen.getByTestId('consequence-state').textContent).toBe('a week of 5 simulated in 182 ms');
  });

  it('says that it shows a part of many, and that all were simulated', () => {
    open(consequences({ members: 500, evaluated: 16 }));
    screen.getByText(/Figures of 16 of 500, from the smallest to the largest; all take part/);
  });

  it('says what to do while it catches nothing', () => {
    open(consequences({ members: 0 }));
    screen.getByText(/It catches no database yet\. Choose a service/);
    expect(screen.queryByRole('table')).toBeNull();
  });

  it('says of stores what comes and when they are full; of clashes the rest', () => {
    open(
      consequences({
        clashes: [
          { kind: 'storeFull', place: 'hill-s1', task: null, at: '2026-12-29T00:00:00Z', count: 1, worstSeconds: 0 },
          { kind: 'queue', place: 'quay-h1', task: 'full', at: '2026-11-24T00:00:00Z', count: 7, worstSeconds: 600 },
        ],
      }),
    );
    screen.getByText('40 GB a day, 1.2 TB kept');
    expect(screen.getByText(/^full on/).textContent).toBe('full on Tue 29 Dec');
    const clashes = screen.getByText('Clashes in the coming week').parentElement!;
    expect(clashes.textContent).toContain('full waits for a slot, 7 times, by up to 10 min');
    expect(clashes.textContent).not.toContain('hill-s1');
  });

  it('shows findings with their remedy, also two that say the same', () => {
    const finding = {
      code: 'x',
      urgency: 'now',
      what: 'No verification',
      why: 'w',
      remedy: 'Read it back',
      databases: [1, 2],
    };
    open(consequences({ findings: [finding, finding] }));
    expect(screen.getAllByText('Read it back')).toHaveLength(2);
    expect(screen.getAllByText('w · 2 databases')).toHaveLength(2);
  });

  it('draws the chances when asked, and says what they were drawn from', async () => {
    const asked = open(consequences(), {
      'POST /api/chances': {
        weeks: 40,
        failureShare: 0.0123,
        spread: 0.18,
        chances: [
          {
            database: 'Tickets',
            loss: 'none',
            keepsRpoForMonth: 0.998,
            exposure95Seconds: 1000,
            restore95Seconds: 1600,
          },
          { database: 'Tickets', loss: 'site', keepsRpoForMonth: 0.4, exposure95Seconds: null, restore95Seconds: null },
          { database: 'Tickets', loss: 'host', keepsRpoForMonth: 0.5, exposure95Seconds: 1, restore95Seconds: 1 },
        ],
      },
    });
    expect(asked.some((a) => a.path === '/api/chances')).toBe(false);
    fireEvent.click(screen.getByRole('button', { name: /^Draw 40 weeks/ }));
    await screen.findByText('99.8 %');
    screen.getByText('40 %');
    expect(screen.queryByText('50 %')).toBeNull();
    screen.getByText(/could lose at most all of it, back in no way/);
    screen.getByText(/1\.2 % of attempts fail, durations spread by 18 %/);
    expect(asked.find((a) => a.path === '/api/chances')!.body).toEqual(plan);
  });

  it('says what is wrong with a draft that cannot be read', () => {
    open(undefined, {}, new Error('tasks[0].store: there is no store "nowhere"'));
    screen.getByText('tasks[0].store: there is no store "nowhere"');
  });
});

describe('what clean-up would remove', () => {
  const view = (copiesGo: number): Schemas['RetentionView'] => ({
    database: 'tickets',
    copiesNow: 900,
    copiesGo,
    freedBytes: 2e12,
    copies: [
      { set: 'a', kind: 'full', store: 'quay-s2', coversTo: '2026-11-20T00:00:00Z', stays: true, reason: 'b needs it' },
      {
        set: 'b',
        kind: 'log',
        store: 'quay-s2',
        coversTo: '2026-11-01T00:00:00Z',
        stays: false,
        reason: 'older than 14 d',
      },
    ] as unknown as Schemas['KeptCopy'][],
    days: [
      { at: '2026-11-24T00:00:00Z', copies: 96, freedBytes: 1e9 },
      { at: '2026-11-25T00:00:00Z', copies: 0, freedBytes: 0 },
    ] as unknown as Schemas['RemovalDay'][],
    before: [{ from: '2026-11-01T00:00:00Z', to: '2026-11-23T00:00:00Z' }],
    after: [{ from: '2026-11-09T00:00:00Z', to: '2026-11-23T00:00:00Z' }],
  });
  const preview = (answer: unknown, databases = ['tickets', 'fares']) => {
    const asked = server({ 'GET /api/places': places, 'POST /api/retention': answer });
    show(<RetentionPanel plan={plan} databases={databases} zone="Europe/Oslo" />);
    return asked;
  };

  it('counts what goes today and on the days after, and says how far back one can go before and after', async () => {
    preview(view(40));
    expect((await screen.findByTestId('clean-up')).textContent).toBe('today 40 of 900 copies, 2.0 TB freed');
    screen.getByText('Tue 24 Nov: 96 copies, 1.0 GB');
    expect(screen.queryByText(/: 0 copies/)).toBeNull();
    screen.getByRole('img', { name: /^Before: back to Sun 1 Nov 01:00\. After: back to Mon 9 Nov 01:00\.$/ });
  });

  it('gives of each copy the reason why it stays or goes', async () => {
    preview(view(1));
    await screen.findByTestId('clean-up');
    const rows = screen.getAllByRole('row').map((r) => [...r.children].map((c) => c.textContent));
    expect(rows.map((r) => [r[0], r[4]])).toEqual([
      ['stays', 'b needs it'],
      ['goes', 'older than 14 d'],
    ]);
  });

  it('is asked of the database one chooses', async () => {
    const asked = preview((a: Asked) => view((a.body as { database: string }).database === 'fares' ? 7 : 1));
    await screen.findByTestId('clean-up');
    fireEvent.mouseDown(screen.getByRole('combobox'));
    fireEvent.click(screen.getByRole('option', { name: 'fares' }));
    await waitFor(() => expect(screen.getByTestId('clean-up').textContent).toContain('today 7 of'));
    expect(asked.filter((a) => a.method === 'POST').map((a) => a.body)).toEqual([
      { plan, database: 'tickets', days: 14 },
      { plan, database: 'fares', days: 14 },
    ]);
  });

  it('says why it cannot be previewed, and asks nothing while the plan catches nobody', async () => {
    preview(() => new Refusal(400, 'tasks[0].keep: keeps nothing'));
    await screen.findByText('tasks[0].keep: keeps nothing');
  });

  it('asks nothing while the plan catches nobody', () => {
    expect(preview(view(1), [])).toEqual([]);
  });
});
