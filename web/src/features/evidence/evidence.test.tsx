import { fireEvent, screen } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import { places, server, show, type Asked } from '../../tests/page';
import EvidencePage from './EvidencePage';

const entry = (number: number, kind: string, body: object, database = 'tickets') => ({
  number,
  at: '2026-11-23T11:00:00Z',
  who: 'operate',
  kind,
  database,
  body,
  hash: `${number}`.padEnd(64, 'ab'),
});
const restore = entry(7, 'restore', {
  run: 'r-1',
  outcome: 'released',
  planned: { seconds: 1000 },
  measured: {
    dataLostSeconds: 1,
    secondsToReady: 1210,
    serviceSecondsWithoutHold: 1490,
    holdSeconds: 600,
    checks: [{ passed: true }, { passed: false }],
  },
});
const holds = { entries: 7, holds: true, whatIsWrong: null, lastHash: 'x', key: 'f00d'.repeat(16) };
const open = (ledger: unknown, state: unknown = holds, address = '/evidence', kinds: unknown = []) => {
  const asked = server({
    'GET /api/places': places,
    'GET /api/ledger': ledger,
    'GET /api/ledger/verify': state,
    'GET /api/proofs/kinds': kinds,
  });
  show(<EvidencePage />, address);
  return asked;
};

describe('what proves it', () => {
  it('tells restores and replicas that took over apart, for each loss, and how many are not proven', async () => {
    const kinds = [
      { loss: 'none', byRestore: 30, byTakingOver: 1, failed: 2, never: 3 },
      { loss: 'site', byRestore: 28, byTakingOver: 4, failed: 0, never: 0 },
    ];
    open({ entries: [], next: null }, holds, '/evidence', kinds);
    const said = (await screen.findByTestId('proof-kinds')).textContent;
    expect(said).toContain('30 by restore, 1 by taking over, 5 not now');
    expect(said).toContain('28 by restore, 4 by taking over');
    expect(screen.getAllByRole('link', { name: /not now/ })).toHaveLength(1);
  });

  it('is not shown beside the entries of one database', async () => {
    const asked = open({ entries: [restore], next: null }, holds, '/evidence?database=tickets');
    await screen.findByRole('listitem');
    expect(asked.some((a) => a.path.startsWith('/api/proofs'))).toBe(false);
  });
});

describe('the ledger', () => {
  it('sets of a restore what was measured beside what was planned', async () => {
    open({ entries: [restore], next: null });
    const line = (await screen.findByRole('listitem')).textContent;
    expect(line).toContain('restore, released tickets');
    expect(line).toContain(
      'lost 1 s · ready in 20 min 10 s (planned 16 min 40 s) · back in 24 min 50 s · held 10 min · 1 of 2 checks passed',
    );
    expect(screen.getByRole('link', { name: 'run' }).getAttribute('href')).toBe('/runs/r-1');
  });

  it('sets what a run of another kind measured, step by step, and each change of roles of a drill', async () => {
    const steps = [{ step: 'copy', seconds: 3, bytes: 9 }];
    open({
      entries: [
        entry(9, 'take-over', { outcome: 'done', measured: steps, checks: [{ passed: true }], result: [] }),
        entry(8, 'drill', {
          outcome: 'done',
          why: 'passed',
          measured: steps,
          checks: [],
          result: { measured: { changes: [{ serviceSeconds: 41 }, { lostSeconds: 2, serviceSeconds: 30 }] } },
        }),
      ],
      next: null,
    });
    const lines = (await screen.findAllByRole('listitem')).map((l) => l.textContent);
    expect(lines[0]).toContain('1 of 1 checks passed');
    expect(lines[1]).toContain('lost 0 s, clients back in 41 s · lost 2 s, clients back in 30 s');
  });

  it('names incidents and counts what was imported', async () => {
    open({
      entries: [
        entry(9, 'incident', { title: 'Fares overwritten' }),
        entry(8, 'import', { databases: 48, sets: 900 }, ''),
      ],
      next: null,
    });
    const lines = (await screen.findAllByRole('listitem')).map((l) => l.textContent);
    expect(lines[0]).toContain('“Fares overwritten”');
    expect(lines[1]).toContain('48 databases, 900 sets');
  });

  it('says that it holds, or what is broken', async () => {
    open({ entries: [], next: null });
    expect((await screen.findByTestId('ledger-state')).textContent).toBe('All 7 entries hold');
    await screen.findByText(/No entry yet/);
  });

  it('says what is broken', async () => {
    open({ entries: [], next: null }, { ...holds, holds: false, whatIsWrong: 'entry 4 was changed' });
    expect((await screen.findByTestId('ledger-state')).textContent).toBe('Broken: entry 4 was changed');
  });

  it('goes back entry by entry, and keeps to one database', async () => {
    const asked = open(
      (a: Asked) =>
        a.query.get('before') ? { entries: [entry(2, 'plan', {})], next: null } : { entries: [restore], next: 7 },
      holds,
      '/evidence?database=tickets',
    );
    fireEvent.click(await screen.findByRole('button', { name: 'Show older entries' }));
    await screen.findByText('plan');
    const queries = asked
      .filter((a) => a.path === '/api/ledger')
      .map((a) => [a.query.get('before'), a.query.get('database')]);
    expect(queries).toEqual([
      [null, 'tickets'],
      ['7', 'tickets'],
    ]);
    expect(screen.queryByRole('button', { name: 'Show older entries' })).toBeNull();
    fireEvent.click(screen.getByRole('button', { name: /Only tickets; show all/ }));
    expect(screen.getByTestId('address').textContent).toBe('/evidence');
  });
});
