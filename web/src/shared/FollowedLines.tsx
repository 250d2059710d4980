import type { ScaleLinear } from 'd3-scale';
import { memo } from 'react';
import type { Cover } from './CoverStrip';
import { localTime } from './format';

const rowHeight = 16;

/** How much room the lines of the replicas take. */
export const followedHeight = (cover: Cover) => cover.replicas.length * rowHeight;

/** Between the tiles and what they give: a thin band for each replica, up to what it has received; where it was cut off it steps down. */
export const FollowedLines = memo(function FollowedLines({
  cover,
  x,
  top,
  zone,
}: {
  cover: Cover;
  x: ScaleLinear<number, number>;
  top: number;
  zone: string;
}) {
  return cover.replicas.map((r, i) => {
    const y = top + (i + 0.5) * rowHeight;
    const spans = r.spans.map((s) => ({ ...s, a: x(Date.parse(s.from)), b: x(Date.parse(s.to)) }));
    const name = r.replica.length > 16 ? `${r.replica.slice(0, 15)}…` : r.replica;
    return (
      <g key={r.replica} data-testid={`followed-${r.replica}`}>
        <title>
          {`${r.replica}: ${r.receivedTo ? `has received all up to ${localTime(r.receivedTo, zone)}` : 'nothing of it is known'}${r.whyNot === null ? '' : `; ${r.whyNot}`}`}
        </title>
        <text x={0} y={y + 4} fontSize={11.5} fill="var(--mui-palette-text-secondary)">
          {name}
        </text>
        <g opacity={r.whyNot === null ? 1 : 0.45}>
          {spans.slice(1).map((s, k) => (
            <path
              key={s.from}
              d={`M${spans[k]!.b} ${y}v5H${s.a}v-5`}
              fill="none"
              stroke="var(--mui-palette-verdict-breached)"
              strokeDasharray="2 2"
            />
          ))}
          {spans.map((s) => (
            <rect
              key={s.from}
              x={s.a}
              y={y - 1.5}
              width={Math.max(1.5, s.b - s.a)}
              height={3}
              fill="var(--mui-palette-primary-main)"
            />
          ))}
          {spans.length > 0 && (
            <line
              x1={spans.at(-1)!.b}
              x2={spans.at(-1)!.b}
              y1={y - 5}
              y2={y + 5}
              stroke="var(--mui-palette-primary-main)"
              strokeWidth={1.5}
            />
          )}
        </g>
      </g>
    );
  });
});
