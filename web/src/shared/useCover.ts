import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useCallback, useEffect, useMemo, useRef } from 'react';
import { useSearchParams } from 'react-router';
import { api, got } from '../api/client';
import { usePremise } from '../app/premise';
import { moveInstant } from '../app/useKeys';
import type { Cover } from './CoverStrip';
import { utc } from './format';

const day = 86_400_000;

/** The cover of a database and the stretch of it that is looked at; the stretch lives in the address. */
export function useCover(database: string, defaultDays = 7) {
  const premise = usePremise();
  const [params, setParams] = useSearchParams();
  const [from, to] = [params.get('from'), params.get('to')];
  const days = Number(params.get('days') ?? defaultDays);
  const cover = useQuery({
    queryKey: ['database', database, 'cover', premise.query, from, to, days],
    placeholderData: keepPreviousData,
    queryFn: async () => {
      // Without a stretch of its own the strip ends now, which only the server knows exactly.
      const range = from && to ? { from, to } : days === defaultDays && defaultDays === 7 ? {} : await lastDays(days);
      return got(
        api.GET('/api/databases/{id}/cover', {
          params: { path: { id: database }, query: { ...premise.query, ...range, width: 900 } },
        }),
      );
    },
  });
  async function lastDays(n: number) {
    const end = premise.at ? Date.parse(premise.at) : Date.parse((await got(api.GET('/api/clock'))).now);
    return { from: utc(end - n * day), to: utc(end) };
  }
  const zoom = useCallback(
    (a: number, b: number) =>
      setParams((before) => {
        const next = new URLSearchParams(before);
        next.set('from', utc(Math.round(a)));
        next.set('to', utc(Math.round(b)));
        next.delete('days');
        return next;
      }),
    [setParams],
  );
  const show = useCallback(
    (n: number) =>
      setParams((before) => {
        const next = new URLSearchParams(before);
        next.delete('from');
        next.delete('to');
        if (n === defaultDays) next.delete('days');
        else next.set('days', String(n));
        return next;
      }),
    [setParams, defaultDays],
  );
  // What is younger than two hours would be a line at the edge of a week: its hour is looked at until somebody says otherwise.
  const firstTile =
    cover.data && !cover.isPlaceholderData ? Math.min(...cover.data.tiles.map((t) => Date.parse(t.from))) : 0;
  const young =
    !from &&
    !params.get('days') &&
    cover.data !== undefined &&
    firstTile < Infinity &&
    firstTile > Date.parse(cover.data.at) - day / 12;
  useEffect(() => {
    if (young) show(1 / 24);
  }, [young, show]);
  return { cover, zoom, show, days: from ? null : days };
}

/** The instants at which a set of the strip ends: what , and . step through. */
export function setInstants(cover: Cover | undefined): number[] {
  return [...new Set((cover?.tiles ?? []).map((t) => Date.parse(t.to)))].sort((a, b) => a - b);
}

/** Moves an instant by the keys , and . — to the set before or after, or by a day. */
export function useInstantKeys(cover: Cover | undefined, chosen: number | null, choose: (at: number) => void) {
  const instants = useMemo(() => setInstants(cover), [cover]);
  // Keys may come faster than pages are drawn: each step goes on from the one before.
  const last = useRef(chosen);
  useEffect(() => {
    last.current = chosen;
  }, [chosen]);
  useEffect(() => {
    const go = (at: number) => {
      last.current = at;
      choose(at);
    };
    const onMove = (e: Event) => {
      const { by, day: whole } = (e as CustomEvent<{ by: 1 | -1; day: boolean }>).detail;
      const end = cover ? Date.parse(cover.at) : Date.now();
      const here = last.current ?? end;
      if (whole) go(Math.min(end, here + by * day));
      else {
        const next = by > 0 ? instants.find((t) => t > here) : instants.findLast((t) => t < here);
        if (next !== undefined) go(next);
      }
    };
    window.addEventListener(moveInstant, onMove);
    return () => window.removeEventListener(moveInstant, onMove);
  }, [cover, choose, instants]);
}
