import { useEffect } from 'react';
import { useLocation } from 'react-router';
import { areas } from './areas';
import { useGo, usePremise } from './premise';

const losses = ['none', 'host', 'array', 'site', 'hostile'];

/** Fired on the window when , or . is pressed; whoever shows a strip moves its instant. Detail: -1 or 1, and whether by a day. */
export const moveInstant = 'imbrek-move-instant';

/** The keys that work on every page. */
export function useKeys({ find, help }: { find: () => void; help: () => void }) {
  const go = useGo();
  const premise = usePremise();
  const { pathname } = useLocation();
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      const target = e.target as HTMLElement;
      if (
        e.ctrlKey ||
        e.metaKey ||
        e.altKey ||
        /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName) ||
        target.closest('[role=dialog],[role=menu],[role=listbox]')
      )
        return;
      const area = areas[Number(e.key) - 1];
      const database =
        /^\/databases\/([^/]+)/.exec(pathname)?.[1] ?? target.closest<HTMLElement>('[data-database]')?.dataset.database;
      if (e.key === '/') find();
      else if (e.key === '?') help();
      else if (area) go(area.path);
      else if (e.key === 'n') premise.set({ at: null });
      else if (e.key === 'x') premise.set({ loss: losses[(losses.indexOf(premise.loss) + 1) % losses.length]! });
      else if (e.key === 'r' && database) go(`/recover/${database}`);
      else if (e.key === ',' || e.key === '.' || e.key === '<' || e.key === '>' || e.key === ';' || e.key === ':')
        window.dispatchEvent(
          new CustomEvent(moveInstant, { detail: { by: /[,<;]/.test(e.key) ? -1 : 1, day: e.shiftKey } }),
        );
      else return;
      e.preventDefault();
    };
    window.addEventListener('keydown', onKey);
    return () => window.removeEventListener('keydown', onKey);
  }, [find, help, go, premise, pathname]);
}
