import type { ScaleLinear } from 'd3-scale';
import { memo } from 'react';
import type { Schemas } from '../api/client';

type Tile = Schemas['TileView'];

const heights: Record<Tile['kind'], number> = {
  full: 26,
  snapshot: 24,
  export: 24,
  differential: 17,
  incremental: 13,
  log: 8,
};

function tileShape(t: Tile, left: number, width: number, base: number): string {
  const h = heights[t.kind];
  if (t.kind === 'snapshot') return `M${left} ${base}v${-h + 8}l6 -8h${Math.max(1, width - 6)}v${h}z`;
  return `M${left} ${base}v${-h}h${width}v${h}z`;
}

interface Props {
  store: string;
  tiles: Tile[];
  x: ScaleLinear<number, number>;
  /** Where the lane stands: its tiles rise from here. */
  base: number;
  lit?: ReadonlySet<string>;
}

/** The copies in one store, as tiles. Drawn anew only when they change, not with every move of the pointer. */
export const CoverLane = memo(function CoverLane({ store, tiles, x, base, lit }: Props) {
  const [first, end] = x.range() as [number, number];
  const lost = tiles.every((t) => t.lost);
  const place = (t: Tile): [number, number] => {
    const left = Math.max(first, x(Date.parse(t.from)));
    // A set of one instant is as wide as a hand can hit; a log as wide as its time, less a hair so that a gap is never closed.
    const w = t.kind === 'log' ? Math.max(1, x(Date.parse(t.to)) - left) : 9;
    return [left, Math.min(w, end - left)];
  };
  return (
    <g opacity={lost ? 0.35 : 1}>
      <text x={0} y={base - 4} fontSize={11.5} className="mono" fill="var(--mui-palette-text-primary)">
        {store.length > 15 ? store.slice(0, 14) + '…' : store}
      </text>
      {lost && (
        <text x={0} y={base - 17} fontSize={10.5} fill="var(--mui-palette-verdict-breached)">
          lost
        </text>
      )}
      <line x1={first} x2={end} y1={base + 0.5} y2={base + 0.5} stroke="var(--mui-palette-divider)" />
      {tiles.map((t, i) => {
        const [left, w] = place(t);
        if (w <= 0) return null;
        const isLit = t.set !== null && lit?.has(t.set);
        const log = t.kind === 'log';
        const fill = t.damaged
          ? 'url(#damaged)'
          : t.kind === 'export' || t.removed
            ? 'var(--mui-palette-background-paper)'
            : 'var(--mui-palette-primary-main)';
        return (
          <g key={i} opacity={t.removed ? 0.4 : log ? 0.8 : 1}>
            <path
              d={tileShape(t, left, w, base)}
              fill={isLit ? 'var(--mui-palette-warning-main)' : fill}
              fillOpacity={log ? 0.55 : t.kind === 'differential' || t.kind === 'incremental' ? 0.85 : 1}
              stroke={
                t.damaged
                  ? 'var(--mui-palette-verdict-breached)'
                  : isLit
                    ? 'var(--mui-palette-warning-main)'
                    : log && w < 4
                      ? 'none'
                      : 'var(--mui-palette-background-paper)'
              }
              strokeWidth={t.kind === 'export' ? 1.5 : 0.75}
              {...(t.kind === 'export' && !t.damaged && { stroke: 'var(--mui-palette-primary-main)' })}
            />
            {t.locked && !log && (
              <path
                d={`M${left + w / 2 - 2.5} ${base - heights[t.kind]}h5v4h-5z`}
                fill="var(--mui-palette-background-paper)"
              />
            )}
          </g>
        );
      })}
    </g>
  );
});

/** What a hand hits of the tiles that are not log; drawn above all else. */
export const CoverLaneTargets = memo(function CoverLaneTargets({
  tiles,
  x,
  base,
  onSet,
}: Pick<Props, 'tiles' | 'x' | 'base'> & { onSet: (set: string) => void }) {
  return tiles
    .filter((t) => t.set && t.kind !== 'log')
    .map((t, i) => (
      <rect
        key={i}
        x={x(Date.parse(t.from)) - 1}
        y={base - heights[t.kind]}
        width={11}
        height={heights[t.kind]}
        fill="transparent"
        style={{ cursor: 'pointer' }}
        onPointerDown={(e) => e.stopPropagation()}
        onPointerUp={(e) => {
          e.stopPropagation();
          onSet(t.set!);
        }}
      >
        <title>{`${t.kind} ${t.set}${t.damaged ? ', damaged' : ''}${t.locked ? ', locked' : ''}${t.removed ? ', removed' : ''}`}</title>
      </rect>
    ));
});
