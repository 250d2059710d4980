import { cleanup, act, fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schemas } from '../../api/client';
import { at, cover, database, finding, findings, fleetPage, fleetRow, loss, set } from '../../tests/fixtures';
import { places, Refusal, server, show } from '../../tests/page';
import { moveInstant } from '../../app/useKeys';
import AdHocPage from './AdHocPage';
import DatabasePage from './DatabasePage';

const plan = (changes?: Partial<Schemas['DatabasePlanView']>): Schemas['DatabasePlanView'] => ({
  plans: [
    { id: 'counters', name: 'Counters', tasks: [{ id: 'log', kind: 'log' }] },
  ] as unknown as Schemas['PlanName'][],
  next: [{ plan: 'counters', task: 'log', kind: 'log', due: '2026-11-23T12:15:00Z', run: null, askedBy: null }],
  figures: [
    {
      kind: 'none',
      designedExposureSeconds: 905,
      observedExposureSeconds: 910,
      designedRestoreSeconds: 1500,
      observedRestoreSeconds: 1320,
      whyTheyDiffer: [],
    },
  ],
  loadLearned: true,
  ...changes,
});
const log = set({ id: 'tickets-log-1', kind: 'log', fromPosition: 100, toPosition: 120 });
const full = set();
const answers = {
  'GET /api/databases/tickets': database(),
  'GET /api/databases/tickets/plan': plan(),
  'GET /api/databases/tickets/cover': cover(),
  'GET /api/databases/tickets/sets': { sets: [log, full], next: null },
  'GET /api/databases/tickets/sets/tickets-log-1': { set: log, needs: ['tickets-full-1'], neededBy: 3, unusable: null },
  'GET /api/findings': findings(),
};
const open = (changes: Record<string, unknown> = {}, address = '/databases/tickets', roles = ['administer']) => {
  const asked = server({ ...answers, ...changes });
  show(<DatabasePage />, address, roles, '/databases/:id');
  return asked;
};

describe('a database', () => {
  it('shows designed, observed and proven together, each with its objective', async () => {
    open();
    await screen.findByRole('heading', { name: 'Tickets' });
    const figure = (word: string) => screen.getByText(word).parentElement!.textContent;
    await waitFor(() => expect(figure('designed, worst of a week')).toContain('could lose 15 min 5 s'));
    expect(figure('designed, worst of a week')).toContain('back in 25 min at worst');
    expect(figure('observed, now')).toContain('could lose 4 min 10 sof 15 min');
    expect(figure('observed, to hill-h1, learned')).toContain('back in 22 min');
    expect(figure('proven by restore, 3 d ago')).toContain('back in 23 min 20 slost 12 s');
  });

  it('says what it needs first, and what it is needed for', async () => {
    open({
      'GET /api/databases/tickets': database({ before: [{ id: 'quay-h1-server', name: 'Server data of quay-h1' }] }),
    });
    const needed = await screen.findByRole('link', { name: 'Server data of quay-h1' });
    expect(needed.getAttribute('href')).toBe('/databases/quay-h1-server');
    cleanup();
    open({
      'GET /api/databases/tickets': database({
        holds: ['accounts', 'keys'],
        needing: ['a', 'b', 'c', 'd'].map((id) => ({ id, name: id })),
      }),
    });
    await screen.findByText(/holds the accounts, keys of its host: restored before 4 others/);
  });

  it('says why a figure is not known', async () => {
    open({
      'GET /api/databases/tickets': database({
        proofs: [],
        supposed: loss({
          couldLoseSeconds: null,
          backInSeconds: null,
          host: null,
          noPath: 'every copy lies on what is lost',
          proof: {
            at: null,
            tookOver: null,
            lostSeconds: null,
            serviceSeconds: null,
            whyNot: 'it was never restored',
            dueAt: '2026-11-23T12:00:00Z',
          },
        }),
      }),
      'GET /api/databases/tickets/plan': plan({ plans: [], next: [], figures: [] }),
    });
    await screen.findByText('because no plan covers it');
    screen.getByText('because there is nothing to restore from');
    screen.getByText('because every copy lies on what is lost');
    screen.getByText('because it was never restored');
    screen.getByText(/None yet\. Restore it aside/);
    screen.getByText('No plan covers it.');
  });

  it('gives two reasons and counts the rest', async () => {
    open({ 'GET /api/databases/tickets': database({ verdict: 'breached', reasons: ['one', 'two', 'three', 'four'] }) });
    await screen.findByText('and 2 more, beside the losses on the right');
    expect(screen.queryByText('three')).toBeNull();
  });

  it('judges every agreed loss', async () => {
    open();
    const host = (await screen.findByText('its host lost')).parentElement!.parentElement!;
    expect(host.textContent).toContain('breached');
    expect(host.textContent).toContain('all of it would be lost');
  });

  it('says by how much designed and observed differ, and why', async () => {
    open({
      'GET /api/databases/tickets/plan': plan({
        figures: [
          {
            kind: 'host',
            designedExposureSeconds: 905,
            observedExposureSeconds: null,
            designedRestoreSeconds: null,
            observedRestoreSeconds: null,
            whyTheyDiffer: ['a copy is damaged', 'two runs failed'],
          },
        ],
      }),
    });
    const because = await screen.findByText('because a copy is damaged; two runs failed');
    expect(because.parentElement!.textContent).toContain('its host lost: designed 15 min 5 s, observed all of it');
    expect(screen.queryByText(/agree within a tenth/)).toBeNull();
  });

  it('lists what cannot be restored and why', async () => {
    open({
      'GET /api/databases/tickets/cover': cover({
        gaps: [
          {
            from: '2026-11-22T10:00:00Z',
            to: '2026-11-22T10:20:00Z',
            atEnd: false,
            beforeFirst: false,
            reasons: ['a log set is damaged'],
          },
        ],
      }),
    });
    await screen.findByText('1 stretch that cannot be restored, and why');
    expect(screen.getByText(/\(20 min\): a log set is damaged/)).toBeTruthy();
  });

  it('lights the chain of the chosen set, which stands in the address', async () => {
    open();
    fireEvent.click(await screen.findByRole('button', { name: 'tickets-log-1' }));
    const chain = await screen.findByText(/could not be restored without it/);
    expect(chain.textContent).toContain('tickets-log-1 needs 1 set; 3 could not be restored without it');
    expect(screen.getByTestId('address').textContent).toContain('set=tickets-log-1');
    const row = screen.getByRole('button', { name: 'tickets-full-1' }).closest('tr')!;
    expect(row.className).toContain('selected');
    fireEvent.click(screen.getByRole('button', { name: 'Dim the chain' }));
    expect(screen.getByTestId('address').textContent).not.toContain('set=');
  });

  it('says of copies where they are and what is wrong with them', async () => {
    const copies = [
      { ...full.copies[0]!, store: 'quay-s2', state: 'damaged' },
      { ...full.copies[0]!, store: 'hill-s1', lockedUntil: '2026-12-24T00:00:00Z' },
      { ...full.copies[0]!, store: 'north-o1', removedAt: at },
    ] as Schemas['CopyView'][];
    open({ 'GET /api/databases/tickets/sets': { sets: [set({ copies })], next: null } });
    await screen.findByText('damaged');
    const cell = screen.getByText('damaged').closest('td')!;
    expect(cell.textContent).toBe('hill-s1 (locked)quay-s2damagednorth-o1removed');
  });

  it('notes an incident at an instant one can write in local time', async () => {
    const asked = open({ 'POST /api/incidents': {} }, '/databases/tickets?instant=2026-11-23T09:00:00Z');
    fireEvent.click(await screen.findByRole('button', { name: 'Note an incident' }));
    const form = within(screen.getByRole('dialog'));
    const note = form.getByRole<HTMLButtonElement>('button', { name: 'Note it' });
    expect(note.disabled).toBe(true);
    fireEvent.change(form.getByLabelText(/What happened/), { target: { value: 'Fares overwritten' } });
    fireEvent.change(form.getByLabelText(/When it began/), { target: { value: 'soon' } });
    expect(note.disabled).toBe(true);
    fireEvent.change(form.getByLabelText(/When it began/), { target: { value: '2026-11-23 09:30' } });
    fireEvent.click(note);
    await waitFor(() => expect(screen.queryByRole('dialog')).toBeNull());
    expect(asked.find((a) => a.method === 'POST')!.body).toEqual({
      database: 'tickets',
      title: 'Fares overwritten',
      at: '2026-11-23T08:30:00Z',
    });
  });

  it('keeps the form with what was written when the server refuses', async () => {
    open({ 'POST /api/incidents': () => new Refusal(400, 'lies in the future', 'at') });
    fireEvent.click(await screen.findByRole('button', { name: 'Note an incident' }));
    const form = within(screen.getByRole('dialog'));
    fireEvent.change(form.getByLabelText(/What happened/), { target: { value: 'Fares overwritten' } });
    fireEvent.click(form.getByRole('button', { name: 'Note it' }));
    await form.findByText('lies in the future');
    expect(form.getByLabelText<HTMLInputElement>(/What happened/).value).toBe('Fares overwritten');
  });

  it('takes the chosen instant along to a restore', async () => {
    open({}, '/databases/tickets?instant=2026-11-23T09:00:00Z&loss=host');
    fireEvent.click(await screen.findByRole('button', { name: 'Recover…' }));
    expect(screen.getByTestId('address').textContent).toBe('/recover/tickets?loss=host&target=2026-11-23T09:00:00Z');
  });

  it('lets who only looks neither note nor ask for runs', async () => {
    open({ 'GET /api/findings': findings(finding({ what: 'No plan covers it' })) }, '/databases/tickets', ['look']);
    await screen.findByText(/Nobody backs it up/);
    expect(screen.queryByRole('button', { name: 'Note an incident' })).toBeNull();
    expect(screen.queryByText(/Run a task of it/)).toBeNull();
  });

  it('steps from set to set by keys, also when they come faster than it is drawn', async () => {
    const tile = (to: string) => ({ kind: 'log', store: 'quay-s2', from: to, to, sets: 1, set: to }) as never;
    open({
      'GET /api/databases/tickets/cover': cover({
        tiles: ['2026-11-23T09:00:00Z', '2026-11-23T10:00:00Z', '2026-11-23T11:00:00Z'].map(tile),
      }),
    });
    await screen.findByRole('img', { name: /Cover strip/ });
    const press = (by: number, day = false) =>
      window.dispatchEvent(new CustomEvent(moveInstant, { detail: { by, day } }));
    act(() => {
      press(-1);
      press(-1);
    });
    await waitFor(() => expect(screen.getByTestId('address').textContent).toContain('instant=2026-11-23T10:00:00Z'));
    act(() => {
      press(-1);
      press(-1);
      press(1, true);
    });
    await waitFor(() => expect(screen.getByTestId('address').textContent).toContain('instant=2026-11-23T12:00:00Z'));
  });

  it('says what is wrong when it cannot be read, and asks again', async () => {
    let answer: unknown = new Refusal(404, "there is no database 'tickets'");
    open({ 'GET /api/databases/tickets': () => answer });
    await screen.findByText(/there is no database/);
    answer = database();
    fireEvent.click(screen.getByRole('button'));
    await screen.findByRole('heading', { name: 'Tickets' });
  });
});

describe('a copy by hand', () => {
  const open = (sees: Schemas['SeesView'], refused: string | null = null) => {
    const asked = server({
      'GET /api/places': {
        ...places,
        things: [...places.things, { kind: 'store', id: 'shelf', name: 'shelf', site: null }],
      },
      'GET /api/fleet': fleetPage(fleetRow({ id: 'tickets', name: 'Tickets' })),
      'POST /api/databases/tickets/copy/worksheet': {
        refused,
        member: refused && 'store',
        kinds: ['full', 'export'],
        seconds: refused ? null : 600,
        storedBytes: refused ? null : 4e9,
        keys: ['vault-key'],
      },
      'GET /api/databases/tickets/sees': sees,
      'POST /api/databases/tickets/copy': { id: 'r-5' },
    });
    show(<AdHocPage />, '/databases/tickets/copy', ['operate'], '/databases/:id/copy');
    return asked;
  };

  it('lists what the account sees and does not see before it is taken, with what it costs', async () => {
    const asked = open({
      why: null,
      partial: true,
      things: [
        { name: 'database app', seen: true, detail: '4 GB' },
        { name: 'database secret', seen: false, detail: 'may not connect' },
      ],
    });
    const side = await screen.findByLabelText('What comes of it');
    await waitFor(() => expect(side.textContent).toContain('10 min'));
    expect(side.textContent).toContain('This list is partial');
    expect(side.textContent).toContain('database secret');
    fireEvent.change(screen.getByLabelText('What for'), { target: { value: 'an audit' } });
    const take = await screen.findByRole<HTMLButtonElement>('button', { name: 'Take it' });
    await waitFor(() => expect(take.disabled).toBe(false));
    fireEvent.click(take);
    await waitFor(() =>
      expect(asked.find((a) => a.path === '/api/databases/tickets/copy')?.body).toMatchObject({
        kind: 'full',
        store: expect.any(String) as string,
        why: 'an audit',
      }),
    );
  });

  it('is not taken where nothing leads there, and says when nobody could ask', async () => {
    open({ why: 'the sign-in has expired', partial: true, things: [] }, 'nothing leads from quay-h1 to shelf');
    expect(await screen.findByText(/nothing leads from quay-h1 to shelf/)).toBeTruthy();
    expect(await screen.findByText(/the sign-in has expired/)).toBeTruthy();
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Take it' }).disabled).toBe(true);
  });
});
