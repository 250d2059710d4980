import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schemas } from '../../api/client';
import { fleetPage, fleetRow } from '../../tests/fixtures';
import { places, Refusal, server, show } from '../../tests/page';
import CopiesPage from './CopiesPage';
import NewCopyPage from './NewCopyPage';
import { shareLeft } from './words';

const now = '2026-11-23T12:00:00Z';
const copy = (changes: Partial<Schemas['StandingCopyView']>): Schemas['StandingCopyView'] => ({
  run: 'r-1',
  kind: 'view',
  database: 'tickets',
  databaseName: 'Tickets',
  host: 'hill-h1',
  instance: 'tickets-view-1',
  owner: 'operate',
  state: 'done',
  since: '2026-11-23T10:00:00Z',
  until: '2026-11-23T14:00:00Z',
  ends: true,
  pastEnd: false,
  bytes: 0,
  mounted: true,
  hosts: [],
  answers: null,
  reached: '2026-11-22T23:00:00Z',
  asks: true,
  removing: null,
  rounds: null,
  ...changes,
});
const open = (
  copies: Schemas['StandingCopyView'][],
  at = '/copies',
  more: Record<string, unknown> = {},
  may = ['operate'],
) => {
  const asked = server({ 'GET /api/places': places, 'GET /api/copies': { now, copies }, ...more });
  show(<CopiesPage />, at, may, '/copies');
  return asked;
};

describe('copies in use', () => {
  it('takes further log where it is left open for it, up to an instant, and is opened', async () => {
    const asked = open(
      [
        copy({
          kind: 'open-for-log',
          mounted: false,
          asks: false,
          rounds: { everySeconds: 900, opened: false, empty: false, underWay: null },
        }),
      ],
      '/copies',
      { 'POST /api/copies/r-1/log': { ids: ['r-8'] } },
    );
    expect((await screen.findByTestId('copy')).textContent).toContain('nobody; log every 15 min');
    expect(screen.queryByRole('button', { name: 'Ask it' })).toBeNull();
    fireEvent.click(screen.getByRole('button', { name: 'Log' }));
    fireEvent.change(screen.getByLabelText(/Log up to/), { target: { value: 'soon' } });
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Apply it' }).disabled).toBe(true);
    fireEvent.change(screen.getByLabelText(/Log up to/), { target: { value: '' } });
    fireEvent.click(screen.getByRole('button', { name: 'Apply it and open' }));
    await waitFor(() =>
      expect(asked.find((a) => a.path === '/api/copies/r-1/log')?.body).toEqual({ to: null, opens: true }),
    );
  });

  it('says how often a clone is refreshed, and that nobody is in one that could not be', async () => {
    const asked = open(
      [
        copy({
          kind: 'clone',
          mounted: false,
          hosts: ['quay-h2'],
          rounds: { everySeconds: 86_400, opened: false, empty: true, underWay: null },
        }),
      ],
      '/copies',
      { 'POST /api/copies/r-1/refresh': { ids: ['r-9'] } },
    );
    const row = (await screen.findByTestId('copy')).textContent;
    expect(row).toContain('refreshed every 1 d');
    expect(row).toContain('nobody: it could not be refreshed');
    fireEvent.click(screen.getByRole('button', { name: 'Refresh' }));
    await waitFor(() => expect(asked.some((a) => a.path === '/api/copies/r-1/refresh')).toBe(true));
  });

  it('says of each what it is, who gets in and when it ends, and what all take', async () => {
    open([
      copy({}),
      copy({
        run: 'r-2',
        kind: 'clone',
        mounted: false,
        bytes: 20e9,
        hosts: ['quay-h2'],
        answers: '127.0.0.1, port 4711',
        until: '2026-11-23T11:00:00Z',
        pastEnd: true,
        ends: false,
      }),
      copy({ run: 'r-3', kind: 'restore', mounted: false, bytes: 5e9, hosts: null, until: null, state: 'held' }),
    ]);
    const [view, clone, held] = (await screen.findAllByTestId('copy')).map((c) => c.textContent);
    expect(view).toContain('on its sets where they lie');
    expect(view).toContain('ends in 2 h');
    expect(view).toContain('removed then');
    expect(clone).toContain('quay-h2 alone');
    expect(clone).toContain('at 127.0.0.1, port 4711');
    expect(clone).toContain('past its end by 1 h');
    expect(clone).toContain('people remove it');
    expect(held).toContain('until people decide');
    screen.getByText('25 GB');
    screen.getByText(/1 past its end/);
  });

  it('gives another end, removes, and leaves both to those who may', async () => {
    const asked = open([copy({})], '/copies', {
      'PUT /api/copies/r-1/until': {},
      'POST /api/runs/r-1/remove': { id: 'r-9' },
    });
    fireEvent.click(await screen.findByRole('button', { name: 'Another end' }));
    const field = screen.getByLabelText(/^Ends/);
    fireEvent.change(field, { target: { value: 'some day' } });
    expect(screen.getByRole('button', { name: 'Set' })).toHaveProperty('disabled', true);
    fireEvent.change(field, { target: { value: '2026-11-30 18:00' } });
    fireEvent.click(screen.getByRole('button', { name: 'Set' }));
    await waitFor(() => expect(asked.find((a) => a.path.endsWith('/until'))!.body).toHaveProperty('until'));
    fireEvent.click(screen.getByRole('button', { name: 'Remove' }));
    await waitFor(() => expect(screen.getByTestId('address').textContent).toContain('/runs/r-9'));
  });

  it('shows nothing to press to who may only look', async () => {
    open([copy({})], '/copies', {}, ['look']);
    await screen.findByTestId('copy');
    expect(screen.queryByRole('button', { name: 'Remove' })).toBeNull();
    expect(screen.queryByRole('button', { name: 'Ask it' })).toBeNull();
  });

  it('answers a query of one’s own', async () => {
    open([copy({})], '/copies?ask=r-1', {
      'POST /api/copies/r-1/rows': {
        columns: ['row', 'value'],
        rows: [
          ['3', null],
          ['4', '17'],
        ],
        more: true,
      },
    });
    fireEvent.change(await screen.findByLabelText('One query, for reading'), { target: { value: 'rows' } });
    fireEvent.click(screen.getByRole('button', { name: 'Show rows' }));
    const answer = within(await screen.findByRole('region', { name: 'Answer' }));
    answer.getByText('17');
    answer.getByText('none');
    screen.getByText(/The first 2 rows/);
  });

  it('says why a query cannot be answered', async () => {
    open([copy({})], '/copies?ask=r-1', { 'POST /api/copies/r-1/rows': new Refusal(409, 'it is not known', 'query') });
    fireEvent.change(await screen.findByLabelText('One query, for reading'), { target: { value: 'x' } });
    fireEvent.click(screen.getByRole('button', { name: 'Show rows' }));
    await screen.findByText('it is not known');
  });

  it('counts what is left of its time', () => {
    expect(shareLeft('2026-11-23T10:00:00Z', '2026-11-23T14:00:00Z', now)).toBe(0.5);
    expect(shareLeft('2026-11-23T10:00:00Z', '2026-11-23T11:00:00Z', now)).toBe(0);
    expect(shareLeft(null, '2026-11-23T14:00:00Z', now)).toBe(1);
  });
});

const sheet: Schemas['CopyWorksheetView'] = {
  refused: null,
  member: null,
  host: 'hill-h1',
  reaches: '2026-11-22T23:00:00Z',
  lostSeconds: 0,
  seconds: 100,
  checkSeconds: 20,
  mounted: true,
  roomBytes: 0,
  movedBytes: 3e9,
  names: ['tickets-view-1'],
  queryHelp: null,
  maskHelp: 'hide values',
  moreOpen: [],
};
const make = (at: string, answer: Partial<Schemas['CopyWorksheetView']>, more: Record<string, unknown> = {}) => {
  const asked = server({
    'GET /api/places': places,
    'GET /api/fleet': fleetPage(fleetRow()),
    'POST /api/copies/worksheet': { ...sheet, ...answer },
    ...more,
  });
  show(<NewCopyPage />, at, ['operate'], '/copies/new');
  return asked;
};
const end = (text: string) => fireEvent.change(screen.getByLabelText(/^Ends/), { target: { value: text } });

describe('a copy that is not there yet', () => {
  it('says what it moves and how soon it is open, and does what is shown', async () => {
    const asked = make(
      '/copies/new?database=tickets&as=view&target=2026-11-22T23:00:00Z',
      {},
      { 'POST /api/copies': { ids: ['r-7'] } },
    );
    end('2026-11-27 18:00');
    await screen.findByText('2 min');
    screen.getByText(/^3(.0)? GB$/);
    fireEvent.click(screen.getByRole('button', { name: 'Open it' }));
    await waitFor(() => expect(screen.getByTestId('address').textContent).toContain('/runs/r-7'));
    expect(asked.find((a) => a.path === '/api/copies')!.body).toMatchObject({
      database: 'tickets',
      as: 'view',
      target: '2026-11-22T23:00:00Z',
      mask: null,
      count: null,
      hosts: [],
    });
  });

  it('makes several clones, masked, and leads to all of them', async () => {
    const asked = make(
      '/copies/new?database=tickets&as=clone',
      { mounted: false, roomBytes: 800e9, names: ['a-1', 'a-2'] },
      { 'POST /api/copies': { ids: ['1', '2'] } },
    );
    end('2026-11-27 18:00');
    fireEvent.change(await screen.findByLabelText('How many'), { target: { value: '2' } });
    fireEvent.change(screen.getByLabelText(/^Statements/), { target: { value: 'hide values\n\n forget markers' } });
    await screen.findByText('800 GB');
    fireEvent.click(await screen.findByRole('button', { name: 'Make 2 clones' }));
    await waitFor(() => expect(screen.getByTestId('address').textContent).toMatch(/\/copies$/));
    expect(asked.find((a) => a.path === '/api/copies')!.body).toMatchObject({
      count: 2,
      mask: ['hide values', ' forget markers'],
    });
  });

  it('that is more open than its source is made only with a reason', async () => {
    const asked = make(
      '/copies/new?database=tickets&as=clone',
      { mounted: false, moreOpen: ['what lies on hill-h2 is not encrypted, at its source it is'] },
      { 'POST /api/copies': { ids: ['1'] } },
    );
    end('2026-11-27 18:00');
    await screen.findByText(/what lies on hill-h2 is not encrypted/);
    const button = () => screen.getByRole<HTMLButtonElement>('button', { name: 'Make the clone' });
    expect(button().disabled).toBe(true);
    fireEvent.change(screen.getByLabelText('Why it is made all the same'), { target: { value: 'test data alone' } });
    await waitFor(() => expect(button().disabled).toBe(false));
    fireEvent.click(button());
    await waitFor(() =>
      expect(asked.find((a) => a.path === '/api/copies')?.body).toMatchObject({ moreOpenBecause: 'test data alone' }),
    );
  });

  it('says what is wrong, and begins nothing', async () => {
    make('/copies/new?database=tickets&as=clone', {
      refused: 'name who may use it',
      member: 'hosts',
      host: null,
      names: [],
    });
    end('2026-11-27 18:00');
    await screen.findByText(/name who may use it/);
    expect(screen.getByRole('button', { name: 'Make the clone' })).toHaveProperty('disabled', true);
  });
});
