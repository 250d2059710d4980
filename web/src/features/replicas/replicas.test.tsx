import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { beforeAll, describe, expect, it, vi } from 'vitest';
import { at, replicaRow, replicaView } from '../../tests/fixtures';
import { places, server, show } from '../../tests/page';
import ReplicaPage from './ReplicaPage';
import ReplicasPage, { arrange } from './ReplicasPage';
import { axisMarks, behind, farEnd } from './scale';

// The list draws only what can be seen, and here nothing has a size by itself.
beforeAll(() => {
  vi.spyOn(HTMLElement.prototype, 'clientHeight', 'get').mockReturnValue(640);
  vi.spyOn(HTMLElement.prototype, 'clientWidth', 'get').mockReturnValue(900);
});

const page = (...rows: ReturnType<typeof replicaRow>[]) => ({ at, rows, total: rows.length, next: null });
const cutOff = replicaRow({
  id: 'gates-north',
  databaseName: 'Gates',
  database: 'gates',
  state: 'cutOff',
  frozenSince: '2026-11-23T11:00:00Z',
  receivedLagSeconds: 3610,
  appliedLagSeconds: 3700,
  toleratedOutageSeconds: 3590,
});

describe('the axis of the wake', () => {
  it('shows a second and three hours apart, and nothing beyond its far end', () => {
    expect(behind(0, 10_800)).toBe(0);
    expect(behind(1, 10_800)).toBeGreaterThan(0.009);
    expect(behind(10_800, 10_800)).toBe(1);
    expect(behind(1e9, 10_800)).toBe(1);
  });

  it('ends at the first round span that holds nine of ten, and its marks keep apart', () => {
    expect(farEnd([])).toBe(60);
    expect(farEnd([1, 2, 3, 4, 5, 6, 7, 8, 59, 1e6])).toBe(60);
    expect(farEnd([7000])).toBe(10_800);
    for (const most of [60, 3600, 10_800, 604_800]) {
      const places = axisMarks(most).map(([s]) => behind(s, most));
      expect(places.length).toBeGreaterThan(1);
      places.slice(1).forEach((p, i) => expect(places[i]! - p).toBeGreaterThan(0.2));
    }
  });
});

describe('the list of replicas', () => {
  it('sets together what belongs together, where the neediest of it stands', () => {
    const lines = arrange([
      cutOff,
      replicaRow(),
      replicaRow({ id: 'gates-hill', database: 'gates', databaseName: 'Gates' }),
      replicaRow({ id: 'pay', group: 'Counter' }),
    ]);
    expect(lines.map((l) => ('row' in l ? l.row.id : `# ${l.heading}`))).toEqual([
      '# Gates',
      'gates-north',
      'gates-hill',
      '# Tickets',
      'tickets-hill',
      '# Group Counter',
      'pay',
    ]);
  });

  it('says of each how it stands, what would be lost and how long it may stay away, and opens one', async () => {
    server({
      'GET /api/replicas': page(
        cutOff,
        replicaRow(),
        replicaRow({
          id: 'late',
          receivedLagSeconds: null,
          appliedLagSeconds: null,
          toleratedOutageSeconds: null,
          state: 'cutOff',
        }),
      ),
    });
    show(<ReplicasPage />, '/replicas');
    const row = (await screen.findByRole('link', { name: 'gates-north' })).closest<HTMLElement>('[role=row]')!;
    expect(within(row).getByText('cut off')).toBeTruthy();
    expect(row.textContent).toContain('1 h / 30 s');
    expect(row.textContent).toContain('59 min 50 s');
    expect(within(row).getByRole('img', { name: /nothing received for 1 h/ })).toBeTruthy();
    expect(screen.getByRole('link', { name: 'late' }).closest<HTMLElement>('[role=row]')!.textContent).toContain(
      'not known',
    );
    fireEvent.click(screen.getByRole('button', { name: /in step/ }));
    await waitFor(() => expect(screen.queryByRole('link', { name: 'gates-north' })).toBeNull());
    expect(screen.getByRole('link', { name: 'tickets-hill' }).getAttribute('href')).toBe('/replicas/tickets-hill');
  });

  it('says how replicas come into a fleet that has none', async () => {
    server({ 'GET /api/replicas': page() });
    show(<ReplicasPage />, '/replicas');
    expect(await screen.findByText(/This fleet names no replica/)).toBeTruthy();
  });
});

describe('a replica', () => {
  it('says what it is worth for each loss, and why nothing where it is nothing', async () => {
    server({
      ...places,
      'GET /api/replicas/tickets-hill': replicaView(),
      'GET /api/replicas/tickets-hill/positions': {
        at,
        written: '880400',
        received: '880021',
        applied: '880000',
        notReceivedBytes: 4_000_000,
        notAppliedBytes: 1_000_000,
        notReceivedTransactions: 379,
        notAppliedTransactions: 400,
      },
    });
    show(<ReplicaPage />, '/replicas/tickets-hill', ['look'], '/replicas/:id');
    expect(await screen.findByText('It is a way back from 1 of 2 losses.')).toBeTruthy();
    const applied = (await screen.findByText('880000')).closest('tr')!;
    expect(applied.textContent).toContain('5.0 MB behind');
    expect(applied.textContent).toContain('400 transactions');
    expect(screen.getByText('880021').closest('tr')!.textContent).toContain('379 transactions');
    expect(screen.getByText('nothing: a bad change is carried to it at once')).toBeTruthy();
    expect(screen.getByRole('img', { name: /1 outages/ })).toBeTruthy();
    expect(screen.queryByText('How it is mended')).toBeNull();
  });

  it('that is broken says why, and which way mends it', async () => {
    server({
      ...places,
      'GET /api/replicas/gates-north': replicaView({
        row: { ...cutOff, state: 'broken', whyBroken: 'what it needs next is no longer kept at its source' },
        mending: [
          { by: 'log', seconds: 410, sets: 6, whyNot: null },
          { by: 'anew', seconds: null, sets: 0, whyNot: 'there is no link between the two sites' },
        ],
        voters: { group: 'Gates', hosts: ['a', 'b'], after: [{ loss: 'site:quay', alive: 1, majority: false }] },
      }),
    });
    show(<ReplicaPage />, '/replicas/gates-north', ['look'], '/replicas/:id');
    expect(await screen.findByText(/It cannot go on/)).toBeTruthy();
    expect(screen.getByText(/6 sets/).textContent).toContain('the fastest');
    expect(screen.getByText('not possible: there is no link between the two sites')).toBeTruthy();
    expect(screen.getByText('no majority')).toBeTruthy();
  });
});
