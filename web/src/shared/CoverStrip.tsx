import { scaleLinear, type ScaleLinear } from 'd3-scale';
import { useEffect, useMemo, useRef, useState } from 'react';
import type { Schemas } from '../api/client';
import { CoverLane, CoverLaneTargets } from './CoverLane';
import { ExposureCurve } from './ExposureCurve';
import { duration, localClock, localDay, localTime, utc } from './format';
import { RecoverableLine } from './RecoverableLine';
import { FollowedLines, followedHeight } from './FollowedLines';
import { saidIn } from './Said';
import { localTicks } from './timeAxis';

export type Cover = Schemas['CoverView'];

const labelWidth = 104;
const laneHeight = 34;
const curveHeight = 92;

interface Props {
  cover: Cover;
  zone: string;
  /** The instant chosen, in milliseconds. */
  chosen?: number | null;
  onChoose?: (at: number) => void;
  onZoom?: (from: number, to: number) => void;
  /** Sets to light up. */
  lit?: ReadonlySet<string>;
  onSet?: (set: string) => void;
}

/**
 * The one picture of the product: time runs to the right, every set is a tile, a lane for each store; under the tiles the
 * recoverable line, under that the exposure curve. A click chooses an instant, a drag zooms.
 */
export function CoverStrip({ cover, zone, chosen, onChoose, onZoom, lit, onSet }: Props) {
  const [box, width] = useWidth();
  const [cursor, setCursor] = useState<number | null>(null);
  const [brush, setBrush] = useState<[number, number] | null>(null);
  const from = Date.parse(cover.from);
  const to = Date.parse(cover.to);
  const x = useMemo(
    () => scaleLinear([from, to], [labelWidth, Math.max(labelWidth + 50, width - 8)]),
    [from, to, width],
  );
  const lanes = useMemo(() => {
    const stores = [...new Set(cover.tiles.map((t) => t.store))].sort();
    return stores.map((store) => ({ store, tiles: cover.tiles.filter((t) => t.store === store) }));
  }, [cover.tiles]);
  const lanesTop = 22;
  const followedTop = lanesTop + Math.max(1, lanes.length) * laneHeight + 6;
  const lineTop = followedTop + followedHeight(cover);
  const curveTop = lineTop + 40;
  const height = curveTop + curveHeight + 22;
  const ticks = useMemo(() => localTicks(from, to, width - labelWidth, zone), [from, to, width, zone]);
  const at = (e: React.PointerEvent) => {
    const rect = e.currentTarget.getBoundingClientRect();
    return Math.min(to, Math.max(from, x.invert(e.clientX - rect.left)));
  };

  return (
    <div ref={box} style={{ position: 'relative' }}>
      <svg
        role="img"
        aria-label={summary(cover, zone)}
        width={width}
        height={height}
        style={{
          display: 'block',
          cursor: onChoose ? 'crosshair' : 'default',
          touchAction: 'none',
          userSelect: 'none',
        }}
        onPointerMove={(e) => {
          const t = at(e);
          setCursor(t);
          if (brush) setBrush([brush[0], t]);
        }}
        onPointerLeave={() => {
          setCursor(null);
          setBrush(null);
        }}
        onPointerDown={(e) => e.button === 0 && setBrush([at(e), at(e)])}
        onPointerUp={(e) => {
          if (!brush) return;
          setBrush(null);
          const [a, b] = [Math.min(...brush), Math.max(...brush)];
          if (x(b) - x(a) > 6) onZoom?.(a, b);
          else if (e.clientX - e.currentTarget.getBoundingClientRect().left > labelWidth) onChoose?.(Math.round(at(e)));
        }}
      >
        <Hatch />
        {ticks.map((t) => (
          <g key={t.at}>
            <line
              x1={x(t.at)}
              x2={x(t.at)}
              y1={16}
              y2={height - 14}
              stroke="var(--mui-palette-divider)"
              strokeWidth={t.day ? 1.25 : 0.75}
            />
            {x(t.at) < width - 40 && (
              <text x={x(t.at) + 3} y={12} fontSize={11} fill="var(--mui-palette-text-secondary)">
                {t.day ? localDay(t.at, zone) : localClock(t.at, zone)}
              </text>
            )}
          </g>
        ))}
        {lanes.length === 0 && (
          <text x={labelWidth + 8} y={lanesTop + 22} fontSize={13} fill="var(--mui-palette-text-secondary)">
            No backup set lies in this stretch of time.
          </text>
        )}
        {lanes.map(({ store, tiles }, i) => (
          <CoverLane key={store} store={store} tiles={tiles} x={x} base={lanesTop + (i + 1) * laneHeight} lit={lit} />
        ))}
        <FollowedLines cover={cover} x={x} top={followedTop} zone={zone} />
        <RecoverableLine cover={cover} x={x} y={lineTop + 10} zone={zone} />
        <Marks cover={cover} x={x} y={lineTop + 26} zone={zone} />
        <ExposureCurve cover={cover} x={x} top={curveTop} height={curveHeight} right={width - 8} left={labelWidth} />
        {brush && Math.abs(x(brush[1]) - x(brush[0])) > 3 && (
          <rect
            x={Math.min(x(brush[0]), x(brush[1]))}
            width={Math.abs(x(brush[1]) - x(brush[0]))}
            y={16}
            height={height - 30}
            fill="var(--mui-palette-primary-main)"
            opacity={0.15}
          />
        )}
        {chosen !== null && chosen !== undefined && chosen >= from && chosen <= to && (
          <g pointerEvents="none">
            <line
              x1={x(chosen)}
              x2={x(chosen)}
              y1={14}
              y2={height - 14}
              stroke="var(--mui-palette-primary-main)"
              strokeWidth={2}
            />
            <path d={`M${x(chosen) - 6} 14h12l-6 8z`} fill="var(--mui-palette-primary-main)" />
          </g>
        )}
        {cursor !== null && (
          <line
            pointerEvents="none"
            x1={x(cursor)}
            x2={x(cursor)}
            y1={16}
            y2={height - 14}
            stroke="var(--mui-palette-text-secondary)"
            strokeDasharray="3 3"
          />
        )}
        {onSet &&
          lanes.map(({ store, tiles }, i) => (
            <CoverLaneTargets key={store} tiles={tiles} x={x} base={lanesTop + (i + 1) * laneHeight} onSet={onSet} />
          ))}
      </svg>
      <Readout cover={cover} at={cursor ?? chosen ?? null} zone={zone} />
    </div>
  );
}

function useWidth(): [React.RefObject<HTMLDivElement | null>, number] {
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(800);
  useEffect(() => {
    if (!box.current) return;
    const watch = new ResizeObserver(([e]) => e && setWidth(Math.max(320, Math.floor(e.contentRect.width))));
    watch.observe(box.current);
    return () => watch.disconnect();
  }, []);
  return [box, width];
}

/** Patterns for what is damaged and for what is not there. */
function Hatch() {
  return (
    <defs>
      <pattern id="damaged" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        <rect width="5" height="5" fill="var(--mui-palette-background-paper)" />
        <rect width="2.2" height="5" fill="var(--mui-palette-verdict-breached)" />
      </pattern>
      <pattern id="gap" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(-45)">
        <rect width="1.4" height="6" fill="var(--mui-palette-verdict-breached)" opacity="0.55" />
      </pattern>
    </defs>
  );
}

function Marks({ cover, x, y, zone }: { cover: Cover; x: ScaleLinear<number, number>; y: number; zone: string }) {
  return cover.marks.map((m, i) => (
    <g key={i} transform={`translate(${x(Date.parse(m.at))} ${y})`}>
      {m.kind === 'incident' ? (
        <path d="M0 -6 6 5H-6z" fill="var(--mui-palette-verdict-breached)" />
      ) : (
        <path d="M0 -4 4 0 0 4-4 0z" fill="none" stroke="var(--mui-palette-text-primary)" />
      )}
      <title>{`${m.kind}: ${m.title}, ${localTime(m.at, zone)}`}</title>
    </g>
  ));
}

/** What is reachable at an instant, in words. */
export function describe(cover: Cover, at: number, zone: string): string {
  const inside = cover.recoverable.find((s) => Date.parse(s.from) <= at && at <= Date.parse(s.to));
  const when = localTime(at, zone);
  if (inside) return `${when}: this instant can be restored.`;
  const gap = cover.gaps.find((g) => Date.parse(g.from) <= at && at <= Date.parse(g.to));
  const before = cover.recoverable.filter((s) => Date.parse(s.to) < at).at(-1);
  const nearest = before
    ? ` Nearest before: ${localTime(before.to, zone)}, ${duration((at - Date.parse(before.to)) / 1000)} earlier.`
    : '';
  return `${when}: cannot be restored${gap ? `, because ${saidIn(gap.reasons[0] ?? '', zone)}` : ''}.${nearest}`;
}

function Readout({ cover, at, zone }: { cover: Cover; at: number | null; zone: string }) {
  return (
    <div
      aria-live="off"
      title={at === null ? undefined : utc(Math.round(at))}
      style={{ minHeight: 20, fontSize: 12.5, color: 'var(--mui-palette-text-secondary)', paddingLeft: labelWidth }}
    >
      {at === null
        ? 'Point at an instant to read it; click to choose it; drag to look closer.'
        : describe(cover, at, zone)}
    </div>
  );
}

function summary(cover: Cover, zone: string): string {
  const gaps = cover.gaps.filter((g) => !g.atEnd && !g.beforeFirst).length;
  const last = cover.recoverable.at(-1);
  return `Cover strip from ${localTime(cover.from, zone)} to ${localTime(cover.to, zone)}: ${cover.tiles.length} tiles, ${gaps === 0 ? 'no gap' : `${gaps} gaps`}, ${last ? `recoverable up to ${localTime(last.to, zone)}` : 'nothing recoverable'}.`;
}
