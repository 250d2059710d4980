import { useQueryClient } from '@tanstack/react-query';
import { useEffect, useSyncExternalStore } from 'react';
import { api, got } from '../api/client';

interface Clock {
  /** World milliseconds at the moment it was told. */
  now: number;
  pace: number;
  demo: boolean;
  /** Wall milliseconds when it was told. */
  heard: number;
}

let clock: Clock | null = null;
const watchers = new Set<() => void>();

function tell(next: Clock | null) {
  clock = next;
  watchers.forEach((w) => w());
}

function subscribe(watcher: () => void) {
  watchers.add(watcher);
  return () => void watchers.delete(watcher);
}

/** The clock as it was last told: about once a second. Null before it is known. */
export function useClock(): Clock | null {
  return useSyncExternalStore(subscribe, () => clock);
}

/** Now, on the server's clock, in milliseconds. */
export function nowMs(): number {
  return clock ? clock.now + (Date.now() - clock.heard) * clock.pace : Date.now();
}

/** Listens to the server; what changed is asked for again, at most every one and a half seconds. */
export function useLiveUpdates() {
  const queries = useQueryClient();
  useEffect(() => {
    let gone = false;
    void got(api.GET('/api/clock')).then((c) => {
      if (!gone) tell({ now: Date.parse(c.now), pace: c.pace, demo: c.demo, heard: Date.now() });
    });
    const events = new EventSource('/api/events');
    const databases = new Set<string>();
    const runs = new Set<string>();
    let everything = false;
    let timer: ReturnType<typeof setTimeout> | null = null;
    const flush = () => {
      timer = null;
      if (everything) {
        void queries.invalidateQueries();
      } else {
        if (databases.size > 0) {
          void queries.invalidateQueries({ queryKey: ['fleet'] });
          void queries.invalidateQueries({ queryKey: ['findings'] });
          databases.forEach((d) => void queries.invalidateQueries({ queryKey: ['database', d] }));
          void queries.invalidateQueries({ queryKey: ['runs'] });
        }
        if (runs.size > 0) {
          void queries.invalidateQueries({ queryKey: ['runs'] });
          runs.forEach((r) => void queries.invalidateQueries({ queryKey: ['run', r] }));
          void queries.invalidateQueries({ queryKey: ['ledger'] });
        }
      }
      everything = false;
      databases.clear();
      runs.clear();
    };
    const soon = (ms: number) => {
      timer ??= setTimeout(flush, ms);
    };
    events.addEventListener('changed', (e) => {
      const news = JSON.parse((e as MessageEvent<string>).data) as {
        databases: string[];
        runs: string[];
        fleet: boolean;
      };
      news.databases.forEach((d) => databases.add(d));
      news.runs.forEach((r) => runs.add(r));
      everything ||= news.fleet;
      soon(news.runs.length > 0 ? 150 : 1500);
    });
    events.addEventListener('missed', () => {
      everything = true;
      soon(500);
    });
    events.addEventListener('hello', () => {
      everything = true;
      soon(3000);
    });
    events.addEventListener('clock', (e) => {
      const c = JSON.parse((e as MessageEvent<string>).data) as { now: string; pace: number };
      tell({ now: Date.parse(c.now), pace: c.pace, demo: true, heard: Date.now() });
    });
    return () => {
      events.close();
      if (timer) clearTimeout(timer);
      // Whoever hears nothing any more does not know the time.
      gone = true;
      tell(null);
    };
  }, [queries]);
}
