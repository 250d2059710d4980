import { useCallback } from 'react';
import { useSearchParams } from 'react-router';

/** What was chosen stands in the address, and can be sent to a colleague: what it says, and how to write into it. */
export function useAddress() {
  const [params, setParams] = useSearchParams();
  /** Writes these values and keeps the others; null takes one away. Replacing leaves no step to go back to. */
  const put = useCallback(
    (values: Record<string, string | null>, replace = false) =>
      setParams(
        (before) => {
          const next = new URLSearchParams(before);
          for (const [key, value] of Object.entries(values)) {
            if (value === null) next.delete(key);
            else next.set(key, value);
          }
          return next;
        },
        { replace },
      ),
    [setParams],
  );
  return [params, put] as const;
}
