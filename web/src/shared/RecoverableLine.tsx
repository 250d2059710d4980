import type { ScaleLinear } from 'd3-scale';
import { memo } from 'react';
import type { Cover } from './CoverStrip';
import { localTime } from './format';
import { saidIn } from './Said';

/** Under the tiles: solid where any instant can be restored, dots where only single ones, hatched where none; a gap narrower than a pixel is still drawn. */
export const RecoverableLine = memo(function RecoverableLine({
  cover,
  x,
  y,
  zone,
}: {
  cover: Cover;
  x: ScaleLinear<number, number>;
  y: number;
  zone: string;
}) {
  const [from, to] = [Date.parse(cover.from), Date.parse(cover.to)];
  // Before its first set a database has no gap: it is empty there, not broken.
  const gaps = cover.gaps.filter((g) => !g.beforeFirst);
  return (
    <g>
      <text x={0} y={y + 4} fontSize={11.5} fill="var(--mui-palette-text-primary)">
        recoverable
      </text>
      {gaps.map((g, i) => {
        const left = x(Math.max(from, Date.parse(g.from)));
        // A gap narrower than a pixel is still drawn.
        const w = Math.max(2, x(Math.min(to, Date.parse(g.to))) - left);
        return (
          <rect key={i} x={left} y={y - 6} width={w} height={12} fill="url(#gap)">
            <title>{`${localTime(g.from, zone)} to ${localTime(g.to, zone)}: ${saidIn(g.reasons.join('; '), zone)}`}</title>
          </rect>
        );
      })}
      {cover.recoverable.map((s, i) => {
        const [a, b] = [x(Math.max(from, Date.parse(s.from))), x(Math.min(to, Date.parse(s.to)))];
        return b - a < 1.5 && s.from === s.to ? (
          <circle key={i} cx={a} cy={y} r={3.2} fill="var(--mui-palette-text-primary)" />
        ) : (
          <rect key={i} x={a} y={y - 2} width={Math.max(1, b - a)} height={4} fill="var(--mui-palette-text-primary)" />
        );
      })}
      {gaps
        .filter((g) => !g.atEnd && x(Date.parse(g.to)) - x(Math.max(from, Date.parse(g.from))) < 3)
        .map((g, i) => (
          <rect
            key={i}
            x={x(Math.max(from, Date.parse(g.from))) - 0.5}
            y={y - 7}
            width={2.5}
            height={14}
            fill="var(--mui-palette-verdict-breached)"
          />
        ))}
    </g>
  );
});
