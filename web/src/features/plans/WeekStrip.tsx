import Box from '@mui/material/Box';
import type { Schemas } from '../../api/client';
import { duration, localDay } from '../../shared/format';

const height: Record<string, number> = {
  full: 34,
  snapshot: 34,
  export: 34,
  differential: 24,
  incremental: 18,
  log: 9,
};

/** A week of what will exist: tiles by kind, and under them the exposure they leave. */
export function WeekStrip({ week: w, zone }: { week: Schemas['WeekStrip']; zone: string }) {
  const width = 348;
  const [a, b] = [Date.parse(w.from), Date.parse(w.to)];
  const x = (t: string) => ((Date.parse(t) - a) / (b - a)) * width;
  const known = w.exposure.filter((e): e is number => e !== null);
  const most = Math.max(1, ...known, (w.rpoSeconds ?? 0) * 1.2);
  const y = (s: number) => 100 - (s / most) * 42;
  const step = width / w.exposure.length;
  const area = w.exposure
    .map(
      (e, i) =>
        `${(i * step).toFixed(1)},${y(e ?? most).toFixed(1)} ${((i + 1) * step).toFixed(1)},${y(e ?? most).toFixed(1)}`,
    )
    .join(' ');
  const accent = 'var(--mui-palette-primary-main)';
  return (
    <Box sx={{ mt: 1 }}>
      <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
        The coming week of {w.database}: what will exist, and what could be lost
      </Box>
      <svg
        width={width}
        height={116}
        role="img"
        aria-label={`A week of ${w.database}: ${w.tiles.length} sets, worst exposure ${duration(Math.max(0, ...known))}`}
      >
        {Array.from({ length: 8 }, (_, i) => (
          <line key={i} x1={(i * width) / 7} x2={(i * width) / 7} y1={0} y2={102} stroke="var(--mui-palette-divider)" />
        ))}
        {w.tiles.map((t, i) => {
          const h = height[t.kind] ?? 10;
          const [l, r] = [x(t.from), x(t.to)];
          return t.kind === 'log' ? (
            <rect key={i} x={l} width={Math.max(0.6, r - l)} y={44 - h} height={h} fill={accent} opacity={0.45} />
          ) : t.kind === 'export' ? (
            <rect key={i} x={r - 2} width={5} y={44 - h} height={h} fill="none" stroke={accent} strokeWidth={1.4} />
          ) : t.kind === 'snapshot' ? (
            <path key={i} d={`M${r - 2} 44V${44 - h + 8}l5 -8v${h}z`} fill={accent} />
          ) : (
            <rect key={i} x={r - 2} width={4} y={44 - h} height={h} fill={accent} />
          );
        })}
        <polygon points={`0,100 ${area} ${width},100`} fill={accent} opacity={0.22} />
        <polyline points={area} fill="none" stroke={accent} />
        {w.rpoSeconds !== null && (
          <>
            <line
              x1={0}
              x2={width}
              y1={y(w.rpoSeconds)}
              y2={y(w.rpoSeconds)}
              stroke="var(--mui-palette-verdict-breached)"
              strokeDasharray="4 3"
            />
            <text
              x={width - 2}
              y={y(w.rpoSeconds) - 3}
              textAnchor="end"
              fontSize={10.5}
              fill="var(--mui-palette-verdict-breached)"
            >
              RPO {duration(w.rpoSeconds)}
            </text>
          </>
        )}
        {Array.from({ length: 7 }, (_, i) => (
          <text key={i} x={(i * width) / 7 + 3} y={113} fontSize={10.5} fill="var(--mui-palette-text-secondary)">
            {localDay(a + i * 86_400_000, zone)
              .split(' ')
              .slice(0, 2)
              .join(' ')}
          </text>
        ))}
      </svg>
    </Box>
  );
}
