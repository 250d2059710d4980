import type { Schemas } from '../../api/client';
import { duration, localDay } from '../../shared/format';
import { axisMarks, behind, farEnd } from './scale';

const width = 760;
const height = 170;
const left = 46;
const bottom = 18;

/** Lag over time: received and applied as two bands hanging from now, outages hatched, the RPO as a line. Downwards is further behind, on a square-root axis. */
export function LagChart({
  lag,
  from,
  to,
  rpo,
  zone,
}: {
  lag: Schemas['LagPiece'][];
  from: string;
  to: string;
  rpo: number | null;
  zone: string;
}) {
  const [start, end] = [Date.parse(from), Date.parse(to)];
  const most = farEnd([...lag.map((l) => l.appliedSeconds), rpo ?? 0]);
  const x = (at: string | number) =>
    left + (((typeof at === 'number' ? at : Date.parse(at)) - start) / (end - start)) * (width - left);
  const y = (seconds: number) => 4 + behind(seconds, most) * (height - bottom - 8);
  const days = Array.from({ length: 8 }, (_, i) => start + ((end - start) * i) / 7);
  const outages = lag
    .map((l, i): [string, string] => [l.to, lag[i + 1]?.from ?? to])
    .filter(([a, b]) => Date.parse(b) > Date.parse(a));
  return (
    <svg
      viewBox={`0 0 ${width} ${height}`}
      width="100%"
      role="img"
      aria-label={`Lag over seven days: ${lag.length === 0 ? 'nothing is known of it' : `${outages.length} outages, at the worst ${duration(Math.max(...lag.map((l) => l.receivedSeconds)))} behind while it received`}`}
    >
      <defs>
        <pattern id="outage" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <path d="M0 0v5" stroke="var(--mui-palette-verdict-breached)" strokeWidth="1.4" />
        </pattern>
      </defs>
      {axisMarks(most).map(([seconds, word]) => (
        <g key={word}>
          <path d={`M${left} ${y(seconds)}H${width}`} stroke="var(--mui-palette-divider)" />
          <text
            x={left - 6}
            y={y(seconds) + 3.5}
            textAnchor="end"
            fontSize={10.5}
            fill="var(--mui-palette-text-secondary)"
          >
            {word}
          </text>
        </g>
      ))}
      <path d={`M${left} 4H${width}`} stroke="var(--mui-palette-text-primary)" strokeWidth={1.5} />
      {outages.map(([a, b]) => (
        <rect
          key={a}
          x={x(a)}
          y={4}
          width={Math.max(1, x(b) - x(a))}
          height={height - bottom - 8}
          fill="url(#outage)"
          opacity={0.45}
        >
          <title>{`nothing received for ${duration((Date.parse(b) - Date.parse(a)) / 1000)}`}</title>
        </rect>
      ))}
      {lag.map((l) => (
        <g key={l.from}>
          <rect
            x={x(l.from)}
            y={4}
            width={Math.max(1, x(l.to) - x(l.from))}
            height={Math.max(0.5, y(l.appliedSeconds) - 4)}
            fill="var(--mui-palette-primary-main)"
            opacity={0.25}
          />
          <rect
            x={x(l.from)}
            y={4}
            width={Math.max(1, x(l.to) - x(l.from))}
            height={Math.max(0.5, y(l.receivedSeconds) - 4)}
            fill="var(--mui-palette-primary-main)"
            opacity={0.7}
          >
            <title>{`received at most ${duration(l.receivedSeconds)} late, applied at most ${duration(l.appliedSeconds)} late`}</title>
          </rect>
        </g>
      ))}
      {rpo !== null && (
        <path d={`M${left} ${y(rpo)}H${width}`} stroke="var(--mui-palette-verdict-breached)" strokeDasharray="5 3" />
      )}
      {days.slice(0, -1).map((d) => (
        <text key={d} x={x(d)} y={height - 4} fontSize={10.5} fill="var(--mui-palette-text-secondary)">
          {localDay(d, zone)}
        </text>
      ))}
    </svg>
  );
}
