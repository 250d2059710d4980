import { scalePow, type ScaleLinear } from 'd3-scale';
import { memo } from 'react';
import { duration } from './format';
import type { Cover } from './CoverStrip';

interface Point {
  at: number;
  seconds: number | null;
}

/** The saw-tooth as points: up with time, down where something became recoverable. Null where nothing could be restored. */
export function curvePoints(cover: Cover): Point[] {
  const to = Date.parse(cover.to);
  if (cover.columns.length > 0) {
    const width = (to - Date.parse(cover.from)) / cover.columns.length;
    return cover.columns.flatMap((c): Point[] => {
      const at = Date.parse(c.at);
      return c.worst === null || c.least === null
        ? [{ at, seconds: null }]
        : [
            { at, seconds: c.least },
            { at: at + width * 0.9, seconds: c.worst },
          ];
    });
  }
  return cover.steps.flatMap((s): Point[] => [
    { at: Date.parse(s.at), seconds: s.fromSeconds },
    { at: Date.parse(s.to), seconds: s.toSeconds },
  ]);
}

/** What would be lost at each instant; the RPO is a line, what is above it is filled. */
export const ExposureCurve = memo(function ExposureCurve({
  cover,
  x,
  top,
  height,
  left,
  right,
}: {
  cover: Cover;
  x: ScaleLinear<number, number>;
  top: number;
  height: number;
  left: number;
  right: number;
}) {
  const points = curvePoints(cover);
  const known = points.filter((p) => p.seconds !== null).map((p) => p.seconds!);
  const rpo = cover.rpoSeconds;
  const most = Math.max(1, ...known, (rpo ?? 0) * 1.25);
  // By the square root: one long outage must not flatten the saw-tooth and the RPO beside it to nothing.
  const y = scalePow([0, most], [top + height, top + 6]).exponent(0.5);
  const runs: Point[][] = [[]];
  for (const p of points) {
    if (p.seconds === null) {
      if (runs.at(-1)!.length > 0) runs.push([]);
    } else runs.at(-1)!.push(p);
  }
  const line = (run: Point[]) =>
    run.map((p, i) => `${i ? 'L' : 'M'}${x(p.at).toFixed(1)} ${y(p.seconds!).toFixed(1)}`).join('');
  // Too dense for single teeth: the band that they fill, each column from its least to its worst.
  const dense = cover.columns.length > 0;
  const worsts = (run: Point[]) => run.filter((_, i) => i % 2 === 1);
  const band = (run: Point[]) => {
    const least = run.filter((_, i) => i % 2 === 0).toReversed();
    return `${line(worsts(run))}${line(least).replace('M', 'L')}z`;
  };
  const nothing: [number, number][] = [];
  points.forEach((p, i) => {
    if (p.seconds === null) nothing.push([p.at, points[i + 1]?.at ?? Date.parse(cover.to)]);
  });
  return (
    <g>
      <text x={0} y={top + 16} fontSize={11.5} fill="var(--mui-palette-text-primary)">
        could lose
      </text>
      <text x={0} y={top + 31} fontSize={11} fill="var(--mui-palette-text-secondary)">
        {known.length ? `up to ${duration(Math.max(...known))}` : 'everything'}
      </text>
      <line x1={left} x2={right} y1={top + height} y2={top + height} stroke="var(--mui-palette-line)" />
      {nothing.map(([a, b], i) => (
        <rect key={i} x={x(a)} y={top + 6} width={Math.max(1, x(b) - x(a))} height={height - 6} fill="url(#gap)" />
      ))}
      {rpo !== null && (
        <clipPath id="over-rpo">
          <rect x={left} y={top} width={right - left} height={Math.max(0, y(rpo) - top)} />
        </clipPath>
      )}
      {runs
        .filter((r) => r.length > 1)
        .map((r, i) => (
          <g key={i}>
            {rpo !== null && (
              <path
                d={`${line(dense ? worsts(r) : r)}L${x(r.at(-1)!.at)} ${top + height}L${x(r[0]!.at)} ${top + height}z`}
                fill="var(--mui-palette-verdict-breached)"
                opacity={0.45}
                clipPath="url(#over-rpo)"
              />
            )}
            {dense && <path d={band(r)} fill="var(--mui-palette-text-primary)" opacity={0.28} />}
            <path
              d={line(dense ? worsts(r) : r)}
              fill="none"
              stroke="var(--mui-palette-text-primary)"
              strokeWidth={1.1}
              strokeLinejoin="round"
            />
          </g>
        ))}
      {rpo !== null && (
        <g>
          <line
            x1={left}
            x2={right}
            y1={y(rpo)}
            y2={y(rpo)}
            stroke="var(--mui-palette-verdict-breached)"
            strokeDasharray="5 3"
          />
          <text
            x={right}
            y={y(rpo) - 3}
            fontSize={11}
            textAnchor="end"
            fill="var(--mui-palette-verdict-breached)"
            stroke="var(--mui-palette-background-paper)"
            strokeWidth={3}
            paintOrder="stroke"
          >
            RPO {duration(rpo)}
          </text>
        </g>
      )}
    </g>
  );
});
