import { act, render, screen } from '@testing-library/react';
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import { Events } from '../tests/events';
import { server } from '../tests/page';
import { nowMs, useClock, useLiveUpdates } from './live';

const noon = Date.parse('2026-11-23T12:00:00Z');

function Listener() {
  useLiveUpdates();
  const clock = useClock();
  return <p>{clock ? `${new Date(clock.now).toISOString()} at ${clock.pace}` : 'not known'}</p>;
}

const keys = [
  ['fleet', 'list'],
  ['findings'],
  ['database', 'tickets'],
  ['database', 'fares'],
  ['runs'],
  ['run', 'r-1'],
  ['plans'],
];

describe('what the server tells', () => {
  let queries: QueryClient;
  let events: Events;

  beforeEach(async () => {
    vi.useFakeTimers({ now: 1_000_000 });
    Events.opened = [];
    server({ 'GET /api/clock': { now: '2026-11-23T12:00:00Z', pace: 60, demo: true } });
    queries = new QueryClient();
    keys.forEach((k) => queries.setQueryData(k, 1));
    const view = render(
      <QueryClientProvider client={queries}>
        <Listener />
      </QueryClientProvider>,
    );
    await act(() => vi.advanceTimersByTimeAsync(0));
    events = Events.opened[0]!;
    return () => {
      view.unmount();
      expect(events.closed).toBe(true);
    };
  });
  afterEach(() => vi.useRealTimers());

  const stale = () => keys.filter((k) => queries.getQueryState(k)!.isInvalidated).map((k) => k.join(' '));

  it('is the time and the pace, and time goes on at that pace', async () => {
    screen.getByText('2026-11-23T12:00:00.000Z at 60');
    await vi.advanceTimersByTimeAsync(2000);
    expect(nowMs()).toBe(noon + 120_000);
    act(() => events.tell('clock', { now: '2026-11-24T00:00:00Z', pace: 0 }));
    screen.getByText('2026-11-24T00:00:00.000Z at 0');
    await vi.advanceTimersByTimeAsync(2000);
    expect(nowMs()).toBe(Date.parse('2026-11-24T00:00:00Z'));
  });

  it('of a database makes that one, the fleet and the findings be asked again, all at once', async () => {
    events.tell('changed', { databases: ['tickets'], runs: [], fleet: false });
    await vi.advanceTimersByTimeAsync(1400);
    expect(stale()).toEqual([]);
    events.tell('changed', { databases: ['tickets'], runs: [], fleet: false });
    await vi.advanceTimersByTimeAsync(100);
    expect(stale()).toEqual(['fleet list', 'findings', 'database tickets', 'runs']);
  });

  it('of a restore makes it be asked again soon, and nothing else', async () => {
    events.tell('changed', { databases: [], runs: ['r-1'], fleet: false });
    await vi.advanceTimersByTimeAsync(150);
    expect(stale()).toEqual(['runs', 'run r-1']);
  });

  it('of the fleet, or that something was missed, makes all be asked again', async () => {
    events.tell('changed', { databases: [], runs: [], fleet: true });
    await vi.advanceTimersByTimeAsync(1500);
    expect(stale()).toHaveLength(keys.length);
    keys.forEach((k) => queries.setQueryData(k, 2));
    expect(stale()).toEqual([]);
    events.tell('missed', {});
    await vi.advanceTimersByTimeAsync(500);
    expect(stale()).toHaveLength(keys.length);
  });
});
