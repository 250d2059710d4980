import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import type { Schemas } from '../../api/client';
import { fleetPage, fleetRow, runLine, runView } from '../../tests/fixtures';
import { places, server, show } from '../../tests/page';
import RunPage from '../runs/RunPage';
import ChangePage from './ChangePage';
import ChangesPage from './ChangesPage';
import { bodyOf, draftOf, idOf, statementsOf } from './script';

const move: Schemas['ChangeScriptView'] = {
  id: 'to-15',
  change: {
    name: 'To version 15',
    engine: 'chain-log',
    keepsOut: true,
    parts: [
      { name: 'move', upgradesTo: '15', statements: null },
      { name: 'statistics', upgradesTo: null, statements: ['collect statistics'] },
    ],
    queries: [{ name: 'sold', query: 'count written' }],
  },
  engineName: 'Chained log',
  toVersion: '15',
  changedBy: 'plan',
  changedAt: '2026-11-23T09:00:00Z',
  statements: 'collect statistics, rebuild indexes',
  rehearsals: [
    {
      run: 'r-2',
      database: 'tickets',
      databaseName: 'Tickets',
      at: '2026-11-23T11:00:00Z',
      host: 'quay-h4',
      seconds: 720,
      broke: 0,
      same: true,
    },
    {
      run: 'r-1',
      database: 'tickets',
      databaseName: 'Tickets',
      at: '2026-11-22T11:00:00Z',
      host: 'quay-h4',
      seconds: 900,
      broke: 2,
      same: false,
    },
  ],
};
const sheet = (changes: Partial<Schemas['ChangeDaySheet']> = {}): Schemas['ChangeSheet'] => ({
  databaseName: 'Tickets',
  version: '14',
  forecast: { seconds: 720, from: 648, to: 792, rehearsals: 1, parts: [720], scaled: true },
  rehearsal: { refused: null, host: 'quay-h4', restoreSeconds: 600, checkSeconds: 30, notTested: ['Clients'] },
  day: {
    refused: null,
    member: null,
    wayBackSeconds: 1500,
    lastTurn: '2026-11-23T13:35:00Z',
    outage: true,
    warnings: ['1 replica does not follow'],
    steps: ['Look', 'Keep everybody out'],
    ...changes,
  },
});
const open = (at: string, more: Record<string, unknown> = {}, may = ['plan', 'operate']) => {
  const asked = server({
    'GET /api/places': places,
    'GET /api/changes': { changes: [move] },
    'GET /api/fleet': fleetPage(fleetRow({ id: 'tickets', name: 'Tickets' })),
    'POST /api/changes/to-15/worksheet': sheet(),
    'POST /api/changes/to-15/rehearse': { id: 'r-9' },
    'PUT /api/changes/to-15': {},
    ...more,
  });
  show(at === '/changes' ? <ChangesPage /> : <ChangePage />, at, may, at === '/changes' ? at : '/changes/:id');
  return asked;
};

describe('the script of a change', () => {
  it('is the same after it was written and read again', () => {
    expect(bodyOf(draftOf(move.change))).toEqual(move.change);
  });

  it('has a statement a line, or each up to a semicolon that ends its line', () => {
    expect(statementsOf('a\n\n b ')).toEqual(['a', 'b']);
    expect(statementsOf('create table t (\n  a int);\ninsert 1;\nlast')).toEqual([
      'create table t (\n  a int);',
      'insert 1;',
      'last',
    ]);
    expect(idOf(' Move to 15, at last! ')).toBe('move-to-15-at-last');
  });
});

describe('changes', () => {
  it('says of each what its last rehearsal of a database measured', async () => {
    open('/changes');
    const text = (await screen.findByTestId('change')).textContent;
    expect(text).toContain('move → statistics · ends at version 15');
    expect(text).toContain('12 min');
    expect(text).toContain('nothing broke');
    expect(text).not.toContain('15 min');
  });

  it('says that one was never rehearsed', async () => {
    open('/changes', { 'GET /api/changes': { changes: [{ ...move, rehearsals: [] }] } });
    expect((await screen.findByTestId('change')).textContent).toContain('never rehearsed');
  });
});

describe('a change', () => {
  it('shows what is expected, the way back and what speaks against it, and is rehearsed', async () => {
    const asked = open('/changes/to-15?database=tickets');
    expect((await screen.findByTestId('expected')).textContent).toBe('12 min');
    const side = screen.getByLabelText('What comes of it');
    expect(side.textContent).toContain('scaled from another host');
    expect(side.textContent).toContain('25 min');
    expect(side.textContent).toContain('1 replica does not follow.');
    fireEvent.click(within(side).getByRole('button', { name: 'Rehearse it' }));
    await waitFor(() => expect(asked.some((a) => a.path === '/api/changes/to-15/rehearse')).toBe(true));
  });

  it('is not carried out while its script is not kept', async () => {
    const asked = open('/changes/to-15?database=tickets');
    await screen.findByTestId('expected');
    fireEvent.change(screen.getByLabelText('Name'), { target: { value: 'To 15, again' } });
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Ask for it' }).disabled).toBe(true);
    fireEvent.click(screen.getByRole('button', { name: 'Keep the script' }));
    await waitFor(() => {
      const put = asked.find((a) => a.method === 'PUT');
      expect((put?.body as Schemas['ChangeBody'] | undefined)?.name).toBe('To 15, again');
    });
  });

  it('says why it cannot be begun', async () => {
    open('/changes/to-15?database=tickets', {
      'POST /api/changes/to-15/worksheet': sheet({
        refused: 'no plan says where a recovery point would go',
        member: 'database',
      }),
    });
    expect(await screen.findByText(/no plan says where a recovery point would go/)).toBeTruthy();
    expect(screen.queryByRole('button', { name: 'Ask for it' })).toBeNull();
  });
});

describe('the run of a change', () => {
  it('shows what it took beside what was expected, what broke, and what no longer fits', async () => {
    const look = (seconds: number): Schemas['ChangeLook'] => ({
      at: '2026-11-23T12:00:00Z',
      version: '15',
      tables: [],
      queries: [{ name: 'sold', answer: '1', seconds, error: null }],
      errors: null,
    });
    server({
      'GET /api/places': places,
      'GET /api/runs/r-7': runView({
        run: runLine({ id: 'r-7', kind: 'change', state: 'done', ended: '2026-11-23T12:30:00Z' }),
        change: {
          rehearsal: false,
          name: 'To version 15',
          toVersion: '15',
          windowEnd: '2026-11-23T14:00:00Z',
          lastTurn: '2026-11-23T13:35:00Z',
          wayBackSeconds: 1500,
          expected: { seconds: 720, from: 648, to: 792, rehearsals: 1, parts: [720], scaled: false },
          notTested: [],
          measured: {
            parts: [{ name: 'move', seconds: 700, statements: [] }],
            seconds: 700,
            ownSeconds: 700,
            scaled: false,
            broke: 1,
            before: look(0.05),
            after: look(0.3),
            differences: [{ broke: true, what: 'query sold', detail: 'takes 300 ms now, 50 ms before' }],
            scale: null,
            outSeconds: 800,
            watched: null,
            slower: [],
            branch: { id: 2, startsAt: '2026-11-23T12:05:00Z', version: '15' },
            left: ['harbour-hill: it must be seeded anew'],
            restore: null,
          },
        },
      }),
    });
    show(<RunPage />, '/runs/r-7', ['operate'], '/runs/:id');
    const side = await screen.findByLabelText('Decide and measured');
    await waitFor(() => expect(side.textContent).toContain('takes 300 ms now, 50 ms before'));
    expect(side.textContent).toContain('11 min 40 s');
    expect(side.textContent).toContain('on the version before 15');
    expect(side.textContent).toContain('it must be seeded anew');
  });
});
