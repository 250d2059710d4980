import { fireEvent, screen, waitFor } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schemas } from '../../api/client';
import { duration } from '../../shared/format';
import { fleetPage, fleetRow, restore, step } from '../../tests/fixtures';
import { places, server, show } from '../../tests/page';
import SecondDatabasePage from './SecondDatabasePage';
import { SecondFigures } from './SecondFigures';

const sheet = (changes: Partial<Schemas['SecondView']> = {}): Schemas['SecondView'] => ({
  refused: null,
  member: null,
  host: 'hill-h1',
  reaches: '2026-11-23T10:00:00Z',
  lostSeconds: 0,
  seconds: 900,
  roomBytes: 8e9,
  movedBytes: 5e9,
  rounds: [],
  names: [
    { kind: 'file', from: 'tickets.pages', to: 'tickets-two.pages', takenBy: 'Tickets' },
    { kind: 'account', from: 'nightly', to: 'nightly', takenBy: null },
  ],
  namesUnknown: null,
  queryHelp: 'count of a table',
  plans: ['Offices'],
  firstBase: 'full into quay-s1',
  moreOpen: [],
  doesNotComeAlong: [],
  ...changes,
});

const open = (at: string, view: Schemas['SecondView'], may = ['operate']) => {
  const asked = server({
    'GET /api/places': { ...places, things: [...places.things, { kind: 'host', id: 'hill-h1', name: 'hill-h1' }] },
    'GET /api/plans': { plans: [] },
    'GET /api/choices': { services: [], tags: [], engines: [], objectives: ['trade'], databases: [] },
    'GET /api/fleet': fleetPage(fleetRow({})),
    'POST /api/second-databases/worksheet': view,
    'POST /api/second-databases': { id: 'r-7' },
  });
  show(<SecondDatabasePage />, at, may, '/second/new');
  return asked;
};
const button = () => screen.findByRole<HTMLButtonElement>('button', { name: 'Restore it, and hold it' });

describe('a second database of one', () => {
  it('says what is missing before it asks, and asks with what was chosen and what people call the names', async () => {
    const asked = open('/second/new?database=tickets&target=2026-11-23T10:00:00.123Z', sheet());
    expect(await screen.findByText('Say what it is called.')).toBeTruthy();
    fireEvent.change(screen.getByLabelText('It is called'), { target: { value: 'tickets-two' } });
    const name = await screen.findByLabelText<HTMLInputElement>('file tickets.pages is called');
    expect(name.placeholder).toBe('tickets-two.pages');
    expect(screen.getByText('Tickets')).toBeTruthy();
    fireEvent.change(name, { target: { value: 'mine.pages' } });
    await waitFor(() =>
      expect(asked.filter((a) => a.path === '/api/second-databases/worksheet').at(-1)?.body).toMatchObject({
        names: [{ kind: 'file', from: 'tickets.pages', to: 'mine.pages' }],
      }),
    );
    await waitFor(async () => expect((await button()).disabled).toBe(false));
    fireEvent.click(await button());
    await waitFor(() =>
      expect(asked.find((a) => a.path === '/api/second-databases')?.body).toMatchObject({
        database: 'tickets',
        id: 'tickets-two',
        target: '2026-11-23T10:00:00.123Z',
        host: null,
      }),
    );
  });

  it('has the objective of the first, another or none, and is checked by a query as its family takes one', async () => {
    const asked = open('/second/new?database=tickets&target=2026-11-23T10:00:00Z', sheet());
    const last = () => asked.filter((a) => a.path === '/api/second-databases/worksheet').at(-1)?.body;
    fireEvent.change(await screen.findByLabelText('It is called'), { target: { value: 'x' } });
    await waitFor(() => expect(last()).toMatchObject({ objective: null, query: null }));
    expect(await screen.findByText('count of a table')).toBeTruthy();
    const choose = async (name: string) => {
      fireEvent.mouseDown(screen.getByRole('combobox', { name: 'Objective' }));
      fireEvent.click(await screen.findByRole('option', { name }));
    };
    await choose('none');
    await waitFor(() => expect(last()).toMatchObject({ objective: '' }));
    await choose('trade');
    fireEvent.change(screen.getByLabelText('A query of your own to check'), { target: { value: ' count sailings ' } });
    await waitFor(() => expect(last()).toMatchObject({ objective: 'trade', query: 'count sailings' }));
  });

  it('as a copy elsewhere it needs a host, and shows the rounds by which it catches up', async () => {
    open(
      '/second/new?database=tickets&as=copy',
      sheet({
        reaches: null,
        rounds: [
          { data: 4e11, seconds: 3_600 },
          { data: 1e9, seconds: 30 },
        ],
        first: { store: 'quay-s2', seconds: 260 },
      }),
    );
    fireEvent.change(await screen.findByLabelText('It is called'), { target: { value: 'tickets-far' } });
    expect(await screen.findByText('Say on which host it is to live.')).toBeTruthy();
    fireEvent.mouseDown(screen.getByRole('combobox', { name: 'Lives on' }));
    fireEvent.click(await screen.findByRole('option', { name: 'hill-h1' }));
    expect(await screen.findByText('when it has caught up')).toBeTruthy();
    expect(screen.getByText('all of it')).toBeTruthy();
    expect(screen.getByText('about 30 s')).toBeTruthy();
    expect(document.body.textContent).toContain('kept for the copy, and a full is taken first, into quay-s2');
  });

  it('is not begun while its names cannot be told, or where no plan would protect it that is said', async () => {
    open(
      '/second/new?database=tickets&target=2026-11-23T10:00:00Z',
      sheet({ names: [], namesUnknown: 'host hill-h1 does not answer', plans: [], firstBase: null }),
    );
    fireEvent.change(await screen.findByLabelText('It is called'), { target: { value: 'x' } });
    expect(await screen.findByText(/Its names cannot be told now/)).toBeTruthy();
    expect(screen.getByText(/nothing would protect it/)).toBeTruthy();
    expect((await button()).disabled).toBe(true);
  });

  it('on its run shows how soon it can be looked at, as of when, what each name became, and its rounds', () => {
    server({ 'GET /api/places': places });
    show(
      <SecondFigures
        second={{
          id: 'tickets-two',
          names: [
            { kind: 'file', from: 'a', to: 'b' },
            { kind: 'account', from: 'c', to: 'c' },
          ],
          forecast: {
            rounds: [{ data: 4e11, seconds: 3_600 }],
            last: { data: 1e9, seconds: 30 },
            downtimeSeconds: 30,
            fits: true,
            totalSeconds: 3_630,
          },
          rounds: [{ data: 3e11, seconds: 3_000 }],
          following: { data: 2e9, seconds: 40 },
        }}
        restore={restore({})}
        steps={[step({ kind: 'hold', hold: true, plannedStart: 4_000 })]}
      />,
    );
    const table = screen.getByRole('table').textContent;
    expect(table).toContain('file ab');
    expect(table).toContain('account cthe same');
    expect(document.body.textContent).toContain(`to look at in ${duration(4_000)}`);
    expect(document.body.textContent).toContain('it is not ready and checked yet');
    expect(screen.getByText('50 min')).toBeTruthy();
    expect(screen.getByText('about 30 s')).toBeTruthy();
  });
});
