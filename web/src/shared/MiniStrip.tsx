/** The cover of the last days in a table row: solid where any instant can be restored, ticks where single ones, empty where none. */
export function MiniStrip({
  cover,
  from,
  to,
  width = 190,
}: {
  cover: { from: string; to: string }[];
  from: string;
  to: string;
  width?: number;
}) {
  const [a, b] = [Date.parse(from), Date.parse(to)];
  const x = (t: string) => ((Date.parse(t) - a) / (b - a)) * width;
  const days = Math.round((b - a) / 86_400_000);
  const gaps: [number, number][] = [];
  let last = 0;
  for (const s of cover) {
    if (x(s.from) > last + 0.01) gaps.push([last, x(s.from)]);
    last = Math.max(last, x(s.to));
  }
  if (last < width) gaps.push([last, width]);
  return (
    <svg width={width} height={18} aria-hidden style={{ display: 'block' }}>
      {Array.from({ length: days - 1 }, (_, i) => (
        <line
          key={i}
          x1={((i + 1) * width) / days}
          x2={((i + 1) * width) / days}
          y1={0}
          y2={18}
          stroke="var(--mui-palette-divider)"
        />
      ))}
      <line x1={0} x2={width} y1={14.5} y2={14.5} stroke="var(--mui-palette-line)" strokeDasharray="2 3" />
      {cover.map((s, i) => {
        const [l, r] = [x(s.from), x(s.to)];
        return r - l < 1 ? (
          <rect key={i} x={l - 1} y={4} width={2.5} height={11} fill="var(--mui-palette-primary-main)" />
        ) : (
          <rect key={i} x={l} y={6} width={r - l} height={9} fill="var(--mui-palette-primary-main)" opacity={0.85} />
        );
      })}
      {gaps
        .filter(([l, r], i) => r - l < 2.5 && i < gaps.length - 1)
        .map(([l], i) => (
          <rect key={i} x={l - 0.5} y={3} width={2.5} height={14} fill="var(--mui-palette-verdict-breached)" />
        ))}
    </svg>
  );
}
