import Box from '@mui/material/Box';
import { useEffect, useRef, useState } from 'react';
import type { Schemas } from '../../api/client';
import { bytes, duration, localClock, localDay, localTime } from '../../shared/format';

type Run = Schemas['LaneRun'];

export interface Lane {
  name: string;
  runs: Run[];
  load: Schemas['LaneLoad'] | undefined;
}

const rowHeight = 14;
const loadHeight = 30;
const labelWidth = 118;

/** Puts runs of a lane into rows so that none covers another; what does not fit goes into the last. */
export function stack(runs: Run[], most = 9): { run: Run; row: number }[] {
  const ends: number[] = [];
  return runs
    .toSorted((a, b) => Date.parse(a.from) - Date.parse(b.from))
    .map((run) => {
      const from = Date.parse(run.from);
      let row = ends.findIndex((e) => e <= from);
      if (row < 0) row = Math.min(ends.length, most - 1);
      ends[row] = Math.max(ends[row] ?? 0, Date.parse(run.to));
      return { run, row };
    });
}

/** Whether a run is due by a recurrence that can be moved: not one that was, nor one somebody asked for. */
export const canMove = (r: Run) => !r.actual && r.state === 'expected';

/** Minutes that a way in pixels comes to, in steps of five. */
export const minutesOf = (pixels: number, plot: number, hours: number) => Math.round((pixels / plot) * hours * 12) * 5;

/** Lanes on one time axis: runs that were as solid bars, those expected as outlines, the load under them, windows and pauses behind them. */
export function Lanes({
  table: t,
  lanes,
  zone,
  chosen,
  minutes,
  keyOf,
  onChoose,
  onMove,
}: {
  table: Schemas['TimetableView'];
  lanes: Lane[];
  zone: string;
  chosen: string | null;
  keyOf: (r: Run) => string;
  /** How far the chosen run is moved, not yet saved. */
  minutes: number;
  onChoose: (r: Run | null) => void;
  /** Moves a run by so many minutes from where it is; left out when one may not. */
  onMove: ((r: Run, minutes: number) => void) | undefined;
}) {
  const [drag, setDrag] = useState<{ key: string; from: number; minutes: number } | null>(null);
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(860);
  useEffect(() => {
    const observer = new ResizeObserver(([e]) => setWidth(Math.max(400, e!.contentRect.width)));
    observer.observe(box.current!);
    return () => observer.disconnect();
  }, []);
  const [a, b] = [Date.parse(t.from), Date.parse(t.to)];
  const plot = width - labelWidth;
  const x = (at: number) => labelWidth + ((at - a) / (b - a)) * plot;
  const hours = (b - a) / 3_600_000;
  const tick = hours <= 26 ? 2 : hours <= 24 * 8 ? 24 : 24 * 7;
  const ticks: number[] = [];
  for (let at = a; at <= b; at += tick * 3_600_000) ticks.push(at);
  const sized = lanes.map((lane) => {
    const stacked = stack(lane.runs);
    const rows = Math.max(1, ...stacked.map((s) => s.row + 1));
    return { lane, stacked, rows, height: rows * rowHeight + (lane.load ? loadHeight : 0) + 12 };
  });
  const topOf = (n: number) => 18 + sized.slice(0, n).reduce((sum, s) => sum + s.height, 0);
  const placed = sized.map((s, n) => ({ ...s, top: topOf(n) }));
  const y = topOf(sized.length);
  const now = Date.parse(t.now);
  return (
    <Box ref={box} sx={{ width: '100%', overflow: 'hidden' }}>
      <svg width={width} height={y + 6} role="group" aria-label="Lanes">
        {t.pauses.map((p) => (
          <rect
            key={p.id}
            x={x(Math.max(a, Date.parse(p.from)))}
            width={Math.max(1, x(Math.min(b, p.to ? Date.parse(p.to) : b)) - x(Math.max(a, Date.parse(p.from))))}
            y={18}
            height={y - 18}
            fill="var(--mui-palette-line)"
            opacity={0.35}
          >
            <title>{`Pause: ${p.reason}`}</title>
          </rect>
        ))}
        {ticks.map((at) => (
          <g key={at}>
            <line x1={x(at)} x2={x(at)} y1={16} y2={y} stroke="var(--mui-palette-divider)" />
            <text x={x(at) + 2} y={11} fontSize={10.5} fill="var(--mui-palette-text-secondary)">
              {tick < 24 ? localClock(at, zone) : localDay(at, zone).split(' ').slice(0, 2).join(' ')}
            </text>
          </g>
        ))}
        {placed.map(({ lane, stacked, rows, top, height }) => (
          <g key={lane.name}>
            <line x1={0} x2={width} y1={top} y2={top} stroke="var(--mui-palette-divider)" />
            <text x={0} y={top + 14} fontSize={12.5} fontWeight={650} fill="var(--mui-palette-text-primary)">
              {lane.name.length > 17 ? `${lane.name.slice(0, 16)}…` : lane.name}
              <title>{lane.name}</title>
            </text>
            {lane.load && (
              <text x={0} y={top + height - 8} fontSize={10} fill="var(--mui-palette-text-secondary)">
                of {bytes(lane.load.capacityBytesPerSecond)}/s
              </text>
            )}
            {t.windows
              .filter((w) => lane.runs.some((r) => r.plan === w.plan && r.task === w.task))
              .map((w, i) => (
                <rect
                  key={i}
                  x={x(Math.max(a, Date.parse(w.from)))}
                  width={Math.max(0, x(Math.min(b, Date.parse(w.to))) - x(Math.max(a, Date.parse(w.from))))}
                  y={top + 1}
                  height={rows * rowHeight + 4}
                  fill="var(--mui-palette-primary-main)"
                  opacity={0.06}
                >
                  <title>{`Window of ${w.plan}, ${w.task}`}</title>
                </rect>
              ))}
            {lane.load && <Load load={lane.load} x={x} from={a} slice={t.sliceSeconds} bottom={top + height - 4} />}
            {stacked.map(({ run, row }) => {
              const [l, r] = [x(Math.max(a, Date.parse(run.from))), x(Math.min(b, Date.parse(run.to)))];
              const bad = run.late || run.state === 'failed';
              const key = keyOf(run);
              const moved = drag?.key === key ? drag.minutes : key === chosen ? minutes : 0;
              const shift = (moved / 60 / hours) * plot;
              const mayMove = onMove !== undefined && canMove(run);
              const colour = bad ? 'var(--mui-palette-verdict-breached)' : 'var(--mui-palette-primary-main)';
              return (
                <rect
                  key={key}
                  data-run={key}
                  transform={shift ? `translate(${shift} 0)` : undefined}
                  strokeDasharray={shift ? '3 2' : undefined}
                  tabIndex={0}
                  role="button"
                  aria-label={`${run.task} of ${run.database}, ${run.state} ${localTime(run.from, zone, false)}, ${duration((Date.parse(run.to) - Date.parse(run.from)) / 1000)}${run.late ? ', ends after its window' : ''}`}
                  aria-pressed={key === chosen}
                  x={l}
                  width={Math.max(3, r - l)}
                  y={top + 3 + row * rowHeight}
                  height={rowHeight - 2}
                  fill={run.actual ? colour : 'var(--mui-palette-background-paper)'}
                  fillOpacity={run.actual ? 0.85 : 1}
                  stroke={key === chosen ? 'var(--mui-palette-text-primary)' : colour}
                  strokeWidth={key === chosen ? 2 : 1.2}
                  style={{ cursor: mayMove ? 'ew-resize' : 'pointer', touchAction: 'none' }}
                  onPointerDown={(e) => {
                    if (!mayMove || e.button !== 0) return;
                    e.currentTarget.setPointerCapture(e.pointerId);
                    setDrag({ key, from: e.clientX - shift, minutes: moved });
                  }}
                  onPointerMove={(e) => {
                    if (drag?.key !== key) return;
                    setDrag({ ...drag, minutes: minutesOf(e.clientX - drag.from, plot, hours) });
                  }}
                  onPointerUp={() => {
                    if (drag?.key !== key) return;
                    setDrag(null);
                    if (drag.minutes !== (key === chosen ? minutes : 0)) onMove?.(run, drag.minutes);
                    else onChoose(key === chosen ? null : run);
                  }}
                  onPointerCancel={() => setDrag(null)}
                  onClick={() => !mayMove && onChoose(key === chosen ? null : run)}
                  onKeyDown={(e) => {
                    if (e.key === 'Enter' || e.key === ' ') {
                      e.preventDefault();
                      onChoose(run);
                    }
                    if (mayMove && (e.key === 'ArrowLeft' || e.key === 'ArrowRight')) {
                      e.preventDefault();
                      onMove(run, moved + (e.key === 'ArrowRight' ? 5 : -5) * (e.shiftKey ? 12 : 1));
                    }
                  }}
                >
                  <title>{`${run.database}: ${run.task}, ${localTime(run.from, zone, false)}, ${duration((Date.parse(run.to) - Date.parse(run.from)) / 1000)}${run.late ? ', ends after its window' : ''}`}</title>
                </rect>
              );
            })}
          </g>
        ))}
        {now > a && now < b && (
          <g>
            <line x1={x(now)} x2={x(now)} y1={12} y2={y} stroke="var(--mui-palette-text-primary)" strokeWidth={1.5} />
            <text x={x(now) + 3} y={y + 4} fontSize={10.5} fill="var(--mui-palette-text-primary)">
              now
            </text>
          </g>
        )}
      </svg>
      <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
        Solid: ran. Outlined: expected; drag one to move it. Brick: failed or ends after its window. Pale bands:
        windows. Under each lane: what it moves.
      </Box>
    </Box>
  );
}

function Load({
  load,
  x,
  from,
  slice,
  bottom,
}: {
  load: Schemas['LaneLoad'];
  x: (at: number) => number;
  from: number;
  slice: number;
  bottom: number;
}) {
  const h = (v: number) => Math.min(1, v / load.capacityBytesPerSecond) * loadHeight;
  const points = load.bytesPerSecond.map((v, i) => {
    const at = from + i * slice * 1000;
    return `${x(at).toFixed(1)},${(bottom - h(v)).toFixed(1)} ${x(at + slice * 1000).toFixed(1)},${(bottom - h(v)).toFixed(1)}`;
  });
  return (
    <>
      <line
        x1={x(from)}
        x2={x(from + load.bytesPerSecond.length * slice * 1000)}
        y1={bottom - loadHeight}
        y2={bottom - loadHeight}
        stroke="var(--mui-palette-line)"
        strokeDasharray="2 4"
      />
      <polygon
        points={`${x(from)},${bottom} ${points.join(' ')} ${x(from + load.bytesPerSecond.length * slice * 1000)},${bottom}`}
        fill="var(--mui-palette-verdict-unproven)"
        opacity={0.4}
      />
    </>
  );
}
