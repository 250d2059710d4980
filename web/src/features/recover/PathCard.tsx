import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import type { Schemas } from '../../api/client';
import { duration, localTime, utc } from '../../shared/format';

/** One way back: what it reaches, loses and takes, step by step as a bar. */
export function PathCard(props: {
  path: Schemas['PathView'];
  /** The one that is gone; the others stand beside it. */
  best: boolean;
  /** What it is called. */
  word: string;
  zone: string;
  rto: number | null;
  longest: number;
  onTake: () => void;
}) {
  const { path: p, best, zone, rto } = props;
  const over = rto !== null && p.serviceSeconds > rto;
  const sets = p.steps.filter((s) => s.kind !== 'log');
  const logs = p.steps.filter((s) => s.kind === 'log').reduce((sum, s) => sum + s.seconds, 0);
  const before = p.serviceSeconds - p.seconds;
  const parts: [string, number, string][] = [
    ['make an instance', p.provisionSeconds, 'var(--mui-palette-line)'],
    ...sets.map((s): [string, number, string] => [
      `${s.kind} ${s.set} from ${s.store}`,
      s.seconds,
      'var(--mui-palette-primary-main)',
    ]),
    [`${p.logs} log sets`, logs, 'color-mix(in srgb, var(--mui-palette-primary-main) 55%, transparent)'],
    ['open', p.openSeconds, 'var(--mui-palette-line)'],
    ['detect, decide, check, redirect', before, 'var(--mui-palette-divider)'],
  ];
  return (
    <Box
      sx={{
        bgcolor: 'background.paper',
        border: 1,
        borderColor: best ? 'primary.main' : 'divider',
        borderTop: best ? 3 : 1,
        borderTopColor: best ? 'primary.main' : 'divider',
        p: 1.25,
        display: 'flex',
        flexDirection: 'column',
        gap: 0.25,
      }}
    >
      <Box sx={{ fontSize: 12, color: best ? 'primary.main' : 'text.secondary', fontWeight: 650 }}>
        {best ? props.word : 'Or'}
      </Box>
      <Box sx={{ fontSize: 16, fontWeight: 650 }}>lose {duration(p.lostSeconds)}</Box>
      <Box sx={{ fontSize: 16, fontWeight: 650, color: over ? 'verdict.breached' : 'text.primary' }}>
        back in {duration(p.serviceSeconds)}
      </Box>
      <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
        {duration(p.seconds)} to restore{rto !== null && ` · RTO ${duration(rto)}`}
      </Box>
      <svg
        width="100%"
        height={12}
        viewBox="0 0 100 12"
        preserveAspectRatio="none"
        aria-hidden
        style={{ margin: '4px 0' }}
      >
        {parts.map(([title, seconds, fill], i) => {
          const x = (parts.slice(0, i).reduce((sum, q) => sum + q[1], 0) / props.longest) * 100;
          return (
            <rect
              key={i}
              x={x}
              y={0}
              width={Math.max(0, (seconds / props.longest) * 100 - 0.4)}
              height={12}
              fill={fill}
            >
              <title>{`${title}: ${duration(seconds)}`}</title>
            </rect>
          );
        })}
      </svg>
      <Box sx={{ fontSize: 12.5 }} title={utc(p.reaches)}>
        reaches {localTime(p.reaches, zone)}
      </Box>
      <Box sx={{ fontSize: 12.5 }}>
        on <b>{p.host}</b>, from {p.stores.join(' and ')}
      </Box>
      <Box sx={{ fontSize: 12.5, overflowWrap: 'anywhere' }}>
        {sets.map((s) => s.kind).join(' → ')}
        {p.logs > 0 && ` → ${p.logs} logs`}
      </Box>
      <Box sx={{ fontSize: 12, color: 'text.secondary', overflowWrap: 'anywhere' }}>
        {p.why}. Seconds {p.source}.
      </Box>
      {!best && (
        <Button sx={{ mt: 'auto', alignSelf: 'flex-start' }} onClick={props.onTake}>
          Go this way
        </Button>
      )}
    </Box>
  );
}
