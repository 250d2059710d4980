import { useVirtualizer } from '@tanstack/react-virtual';
import { useRef, useState, type KeyboardEvent } from 'react';

/**
 * Rows of a long list, of which only those in sight are drawn: arrows, Page, Home and End move from one to the next, Enter opens. Lines that are no rows, such as headings, are passed over; one row is
 * always within reach of the Tab key. A row's link carries its place as `data-line`.
 */
export function useRows({
  count,
  isRow,
  height,
  page,
  open,
}: {
  count: number;
  isRow: (line: number) => boolean;
  /** Of a line, in pixels; the same function as long as the lines are the same. */
  height: (line: number) => number;
  /** How many lines Page moves by. */
  page: number;
  open: (line: number) => void;
}) {
  const scroller = useRef<HTMLDivElement>(null);
  const [chosen, setFocus] = useState(0);
  let focus = chosen;
  if (!(focus < count && isRow(focus))) {
    focus = 0;
    while (focus < count && !isRow(focus)) focus++;
  }
  // eslint-disable-next-line react-hooks/incompatible-library -- the virtualizer must be asked anew at each render, and is
  const virtual = useVirtualizer({
    count,
    getScrollElement: () => scroller.current,
    estimateSize: height,
    overscan: 8,
    // Drawn with the frame, not within the event: a fast wheel would else wait for rows it has left already.
    useFlushSync: false,
  });
  const onKeyDown = (e: KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1, PageDown: page, PageUp: -page, Home: -count, End: count }[e.key];
    if (e.key === 'Enter' && focus < count) open(focus);
    if (!step) return;
    e.preventDefault();
    const sign = Math.sign(step);
    let next = Math.max(0, Math.min(count - 1, focus + step));
    while (next < count && !isRow(next) && next + sign >= 0 && next + sign < count) next += sign;
    setFocus(next);
    virtual.scrollToIndex(next);
    requestAnimationFrame(() => scroller.current?.querySelector<HTMLElement>(`[data-line="${next}"]`)?.focus());
  };
  return { scroller, virtual, focus, setFocus, onKeyDown };
}
