import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { beforeAll, describe, expect, it, vi } from 'vitest';
import { finding, findings, fleetPage, fleetRow } from '../../tests/fixtures';
import type { Schemas } from '../../api/client';
import { places, server, show, type Asked } from '../../tests/page';
import FleetPage from './FleetPage';
import { NeedsYou } from './NeedsYou';

// The list draws only what can be seen, and here nothing has a size by itself.
beforeAll(() => {
  vi.spyOn(HTMLElement.prototype, 'clientHeight', 'get').mockReturnValue(640);
  vi.spyOn(HTMLElement.prototype, 'clientWidth', 'get').mockReturnValue(900);
});

const tickets = fleetRow();
const passes = fleetRow({
  id: 'passes',
  name: 'Passes',
  verdict: 'breached',
  supposed: 'breached',
  reasons: ['the log was not kept'],
  couldLoseSeconds: 7200,
});
const paint = fleetRow({
  id: 'paint-shop',
  name: 'Paint shop',
  service: null,
  host: 'north-h1',
  verdict: 'unprotected',
  supposed: 'unprotected',
  losses: [],
  objective: null,
  rpoSeconds: null,
  rtoSeconds: null,
  couldLoseSeconds: null,
  backInSeconds: null,
  noPath: 'it has no set',
  plans: [],
  proofAt: null,
  proofCounts: false,
});
const answers = (...rows: Schemas['FindingRow'][]) => ({
  'GET /api/fleet': fleetPage(tickets, passes, paint),
  'GET /api/findings': findings(...rows),
  'GET /api/plans': { plans: [], uncovered: [], conflicting: [] },
});
const names = () => screen.getAllByRole('link', { name: /^(Tickets|Passes|Paint shop)$/ }).map((l) => l.textContent);

describe('the fleet', () => {
  it('says of each plan what it could lose by design, and when that is all of it', async () => {
    server({
      ...answers(),
      'GET /api/fleet': fleetPage(
        fleetRow({ id: 'a', name: 'Aft winch', designedWorstSeconds: 905 }),
        fleetRow({ id: 'b', name: 'Ballast', designedWorstSeconds: null, designedLosesAll: true }),
        fleetRow({ id: 'c', name: 'Capstan', designedWorstSeconds: null }),
        paint,
      ),
    });
    show(<FleetPage />, '/fleet');
    const cell = async (name: string) => {
      const row = (await screen.findByRole('link', { name })).closest('[role=row]') as HTMLElement;
      return within(row).getByTitle(/could lose|No plan/).textContent;
    };
    expect(await cell('Aft winch')).toBe('15 min 5 s');
    expect(await cell('Ballast')).toBe('all of it');
    expect(await cell('Capstan')).toBe('–');
    expect(await cell('Paint shop')).toBe('no plan');
  });

  it('says how far the designed figures have come, and asks again until they are all there', async () => {
    vi.useFakeTimers({ shouldAdvanceTime: true });
    const capstan = fleetRow({ id: 'c', name: 'Capstan', designedWorstSeconds: null });
    const routes = {
      ...answers(),
      'GET /api/fleet': { ...fleetPage(capstan), designing: { made: 3_290, of: 10_000 } },
    };
    server(routes);
    show(<FleetPage />, '/fleet');
    const head = await screen.findByTitle('Worked out for 3,290 of 10,000 databases so far');
    expect(head.textContent).toBe('Designed, 32 %');
    server({ ...routes, 'GET /api/fleet': fleetPage({ ...capstan, designedWorstSeconds: 905 }) });
    await vi.advanceTimersByTimeAsync(3_100);
    expect(await screen.findByText('15 min 5 s')).toBeTruthy();
    expect(screen.getByRole('columnheader', { name: 'Designed' }).title).toBe('');
    vi.useRealTimers();
  });

  it('groups by service, the worst service and the worst database first', async () => {
    server(answers());
    show(<FleetPage />, '/fleet');
    await screen.findByRole('link', { name: 'Tickets' });
    expect(names()).toEqual(['Paint shop', 'Passes', 'Tickets']);
    expect(screen.getByText('No service').textContent).toContain('1 database');
    expect(screen.getByText('Ticketing').textContent).toContain('2 databases');
  });

  it('says of each what could be lost, how soon it is back, and how one knows, with the objective beside it', async () => {
    server(answers());
    show(<FleetPage />, '/fleet');
    const row = (await screen.findByRole('link', { name: 'Tickets' })).closest<HTMLElement>('[role=row]')!;
    expect(row.textContent).toContain('4 min 10 s / 15 min');
    expect(row.textContent).toContain('22 min / 1 h');
    expect(row.textContent).toContain('3 d ago');
    expect(within(row).getByRole('img', { name: 'its host lost: breached' })).toBeTruthy();
    expect(within(row).getByTitle('Counters: could lose 15 min 5 s, back in 25 min')).toBeTruthy();
    const bare = screen.getByRole('link', { name: 'Paint shop' }).closest<HTMLElement>('[role=row]')!;
    for (const word of ['unprotected', 'all of it', 'no way back', 'no plan', 'never'])
      expect(bare.textContent).toContain(word);
  });

  it('keeps filters in the address, and offers to put what they leave under a plan', async () => {
    server(answers());
    show(<FleetPage />, '/fleet?find=north');
    await waitFor(() => expect(names()).toEqual(['Paint shop']));
    expect(screen.getByText(/1 of 3 shown/)).toBeTruthy();
    fireEvent.change(screen.getByLabelText('Filter'), { target: { value: 'row engine' } });
    await waitFor(() => expect(names()).toHaveLength(3));
    await waitFor(() => expect(screen.getByTestId('address').textContent).toContain('find=row+engine'));
    fireEvent.click(screen.getByRole('button', { name: '1 breached' }));
    expect(names()).toEqual(['Passes']);
    expect(screen.getByTestId('address').textContent).toContain('only=breached');
  });

  it('does not offer a plan to who may only look', async () => {
    server(answers());
    show(<FleetPage />, '/fleet?find=north', ['look']);
    await waitFor(() => expect(names()).toEqual(['Paint shop']));
    expect(screen.getByText(/1 of 3 shown/)).toBeTruthy();
    expect(screen.queryByLabelText(/^Put it under/)).toBeNull();
  });

  it('says so when a filter leaves nothing', async () => {
    server(answers());
    show(<FleetPage />, '/fleet?find=nowhere');
    await screen.findByText(/No database here/);
  });

  it('moves by arrows over headings and opens with Enter, the premise kept', async () => {
    server(answers());
    show(<FleetPage />, '/fleet?loss=host');
    const first = await screen.findByRole('link', { name: 'Paint shop' });
    fireEvent.keyDown(first, { key: 'ArrowDown' });
    fireEvent.keyDown(screen.getByRole('grid'), { key: 'Enter' });
    expect(screen.getByTestId('address').textContent).toBe('/databases/passes?loss=host');
  });

  it('shows the verdict of what is supposed, not of what was agreed', async () => {
    server({ ...answers(), 'GET /api/fleet': fleetPage({ ...tickets, supposed: 'atRisk', supposedReason: 'slow' }) });
    show(<FleetPage />, '/fleet?loss=host');
    expect((await screen.findByTitle('slow')).textContent).toBe('at risk');
  });

  it('asks under the premise of the address', async () => {
    const asked = server(answers());
    show(<FleetPage />, '/fleet?loss=site%3Aquay&at=2026-11-20T00:00:00Z');
    await screen.findByRole('link', { name: 'Tickets' });
    const query = asked.find((a) => a.path === '/api/fleet')!.query;
    expect([query.get('loss'), query.get('at')]).toEqual(['site:quay', '2026-11-20T00:00:00Z']);
  });
});

describe('what needs you', () => {
  it('stands by urgency, each with its reason and where it is mended', async () => {
    server({
      'GET /api/findings': findings(
        finding(),
        finding({ code: 'keeps-failing', database: 'notices', remedy: 'Mend the cause' }),
        finding({ code: 'does-not-end', database: 'fares', remedy: 'End it' }),
        finding({ code: 'never-restored', urgency: 'soon', database: 'tickets', remedy: 'Restore it aside' }),
      ),
    });
    show(<NeedsYou />, '/fleet?loss=host');
    await screen.findByText('Needs you · 4');
    expect(screen.getAllByRole('heading', { level: 3 }).map((h) => h.textContent)).toEqual([
      'Now · 3',
      'This week · 1',
    ]);
    const to = (name: string) => decodeURIComponent(screen.getByRole('link', { name }).getAttribute('href')!);
    expect(to('Restore it aside')).toBe('/recover/tickets?loss=host');
    expect(to('Put it under a plan')).toBe('/plans?loss=host');
    expect(to('Mend the cause')).toBe('/runs?loss=host&database=notices');
    expect(to('End it')).toBe('/runs?loss=host&database=fares');
  });

  it('says what many databases have in common once, with the worst, the span, and the way to them', async () => {
    server({
      'GET /api/findings': findings(
        finding({
          key: 'log-hole|x',
          databases: 1234,
          databaseName: 'Database 7',
          worstSeconds: 7200,
          from: '2026-11-20T00:00:00Z',
          to: '2026-11-22T00:00:00Z',
          remedy: 'Take a full now',
        }),
      ),
      'GET /api/places': places,
    });
    show(<NeedsYou />, '/fleet?loss=host');
    await screen.findByText('1,234 databases');
    expect(screen.getByText(/that is the worst, 2 h/).textContent).toContain('from Fri 20 Nov');
    const to = screen.getByRole('link', { name: 'Take a full now' }).getAttribute('href')!;
    expect(new URLSearchParams(to.split('?')[1]).get('finding')).toBe('log-hole|x');
  });

  it('comes a page at a time', async () => {
    const asked = server({
      'GET /api/findings': (a: Asked) => ({
        ...findings(finding({ database: `d${a.query.get('from')}` })),
        total: 2000,
        next: a.query.get('from') === '0' ? 30 : null,
      }),
    });
    show(<NeedsYou />);
    fireEvent.click(await screen.findByRole('button', { name: 'Show 30 of 1,999 more' }));
    await waitFor(() => expect(screen.getAllByText('Put it under a plan')).toHaveLength(2));
    expect(asked.filter((a) => a.path === '/api/findings').map((a) => a.query.get('from'))).toEqual(['0', '30']);
  });

  it('says what is kept and cannot be read, and how it is mended', async () => {
    server({
      'GET /api/findings': {
        ...findings(),
        leftOut: [
          { kind: 'plan', id: 'nights', why: 'tasks[0].recurrence.start: must lie between 1900 and 2200' },
          { kind: 'store', id: 'quay-s9', why: 'no rate' },
        ],
      },
    });
    show(<NeedsYou />);
    await screen.findByText('Cannot be read · 2');
    expect(screen.getByRole('link', { name: 'Mend it and save it anew' }).getAttribute('href')).toBe('/plans/nights');
    expect(screen.getByRole('link', { name: /Export the fleet as it is kept/ }).getAttribute('href')).toContain(
      'kept=true',
    );
  });

  it('says why nothing does', async () => {
    server({ 'GET /api/findings': findings() });
    show(<NeedsYou />);
    await screen.findByText(/^Nothing\. Every database/);
  });
});
