import Box from '@mui/material/Box';
import { duration } from './format';

/** How much of an objective is used: a short bar with the objective as its end. */
export function UsedBar({
  value,
  limit,
  width = 64,
}: {
  value: number | null | undefined;
  limit: number | null | undefined;
  width?: number;
}) {
  if (value === null || value === undefined || !limit) return null;
  const share = value / limit;
  const over = share > 1;
  return (
    <svg width={width} height={6} aria-hidden style={{ display: 'block', flex: 'none' }}>
      <rect x={0.5} y={0.5} width={width - 1} height={5} fill="none" stroke="var(--mui-palette-line)" />
      <rect
        x={0.5}
        y={0.5}
        width={Math.max(1, Math.min(1, share) * (width - 1))}
        height={5}
        fill={`var(--mui-palette-${over ? 'verdict-breached' : 'primary-main'})`}
      />
      {over && <path d={`M${width - 7} 0l-3 6M${width - 4} 0l-3 6`} stroke="var(--mui-palette-background-paper)" />}
    </svg>
  );
}

/** One of the three figures: a word, a number with its unit, and the objective beside it. Those of one grid stand on common lines. */
export function Figure(props: {
  word: string;
  seconds: number | null | undefined;
  limit?: number | null;
  unknown?: string | null;
  prefix?: string;
  note?: string;
}) {
  const known = props.seconds !== null && props.seconds !== undefined;
  const over = known && props.limit && props.seconds! > props.limit;
  return (
    <Box sx={{ minWidth: 0, display: 'grid', gridRow: 'span 3', gridTemplateRows: 'subgrid', rowGap: 0 }}>
      <Box sx={{ color: 'text.secondary', fontSize: 12, alignSelf: 'end' }}>{props.word}</Box>
      <Box sx={{ fontSize: 17, fontWeight: 620, color: over ? 'verdict.breached' : 'text.primary', lineHeight: 1.3 }}>
        {known && props.prefix && (
          <Box component="span" sx={{ fontSize: 13, fontWeight: 400 }}>
            {props.prefix}{' '}
          </Box>
        )}
        <span style={{ whiteSpace: 'nowrap' }}>{known ? duration(props.seconds) : 'not known'}</span>
      </Box>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1, minHeight: 18, alignSelf: 'start' }}>
        <UsedBar value={props.seconds} limit={props.limit} />
        <Box component="span" sx={{ color: 'text.secondary', fontSize: 12 }}>
          {known
            ? (props.note ?? (props.limit ? `of ${duration(props.limit)}` : ''))
            : `because ${props.unknown ?? 'nothing was measured'}`}
        </Box>
      </Box>
    </Box>
  );
}
