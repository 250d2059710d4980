import { useCallback, useMemo } from 'react';
import { useLocation, useNavigate, useSearchParams } from 'react-router';

export interface Premise {
  /** none, hostile, host, array, site, or one of them with an id. */
  loss: string;
  /** An instant in UTC, or null for now. */
  at: string | null;
}

/** The sentence every figure answers; it lives in the address, so it can be sent to a colleague. */
export function usePremise(): Premise & {
  query: { loss?: string; at?: string };
  set: (next: Partial<Premise>) => void;
} {
  const [params, setParams] = useSearchParams();
  const loss = params.get('loss') ?? 'none';
  const at = params.get('at');
  const set = useCallback(
    (next: Partial<Premise>) =>
      setParams((before) => {
        const after = new URLSearchParams(before);
        const put = (key: string, value: string | null | undefined) => {
          if (value === undefined) return;
          if (value === null || value === '' || (key === 'loss' && value === 'none')) after.delete(key);
          else after.set(key, value);
        };
        put('loss', next.loss);
        put('at', next.at);
        return after;
      }),
    [setParams],
  );
  const query = useMemo(() => ({ ...(loss !== 'none' && { loss }), ...(at && { at }) }), [loss, at]);
  return { loss, at, query, set };
}

/** Goes elsewhere and takes the premise along. */
export function useGo() {
  const navigate = useNavigate();
  const { search } = useLocation();
  return useCallback(
    (path: string, more: Record<string, string> = {}) => void navigate(withPremise(path, search, more)),
    [navigate, search],
  );
}

/** A path that keeps the premise of the present address. */
export function withPremise(path: string, search: string, more: Record<string, string> = {}): string {
  const now = new URLSearchParams(search);
  const next = new URLSearchParams();
  for (const key of ['loss', 'at']) {
    const value = now.get(key);
    if (value) next.set(key, value);
  }
  for (const [key, value] of Object.entries(more)) next.set(key, value);
  const text = next.toString();
  return text ? `${path}?${text}` : path;
}
