import Box from '@mui/material/Box';
import { useQuery } from '@tanstack/react-query';
import { api, got, type Schemas } from '../../api/client';
import { useZone } from '../../app/places';
import { duration, localTime } from '../../shared/format';

type Span = Schemas['DrillSpan'];

/** Two tracks on one axis of time: where writes succeeded, here and there, and what clients saw; between them the band in which nobody could write. */
export function Tracks({ run, drill }: { run: Schemas['RunLine']; drill: Schemas['DrillView'] }) {
  const zone = useZone();
  const live = useQuery({
    queryKey: ['drills', run.id, 'seen'],
    enabled: run.started !== null,
    refetchInterval: run.ended ? false : 2000,
    queryFn: () => got(api.GET('/api/drills/{id}/seen', { params: { path: { id: run.id } } })),
  });
  if (!live.data || live.data.spans.length === 0) return null;
  const { spans: seen, stops, withoutServiceSeconds, bothWritable } = live.data;
  const begin = Date.parse(seen[0]!.from);
  const end = Math.max(Date.parse(seen.at(-1)!.to), begin + 1000);
  const x = (at: number) => ((at - begin) / (end - begin)) * 100;
  const until = (i: number) => (i + 1 < seen.length ? Date.parse(seen[i + 1]!.from) : Date.parse(seen[i]!.to));
  const stopped = stops.map((b) => ({ from: Date.parse(b.from), to: Date.parse(b.to), seconds: b.seconds }));
  const lane = (word: string, host: string, has: (s: Span) => boolean) => (
    <Box sx={{ display: 'grid', gridTemplateColumns: '150px minmax(0, 1fr)', alignItems: 'center', columnGap: 1.5 }}>
      <Box sx={{ lineHeight: 1.2 }}>
        <b>{word}</b>
        <Box sx={{ fontSize: 12, color: 'text.secondary' }}>{host}</Box>
      </Box>
      <svg
        width="100%"
        height="26"
        preserveAspectRatio="none"
        viewBox="0 0 100 26"
        role="img"
        aria-label={`${word}: when a write succeeded`}
      >
        <line x1="0" x2="100" y1="13" y2="13" stroke="var(--mui-palette-line)" vectorEffect="non-scaling-stroke" />
        {stopped.map((b) => (
          <rect
            key={b.from}
            x={x(b.from)}
            width={Math.max(0.2, x(b.to) - x(b.from))}
            y="0"
            height="26"
            fill="var(--mui-palette-verdict-atRisk)"
            opacity="0.18"
          />
        ))}
        {seen.map(
          (s, i) =>
            has(s) && (
              <rect
                key={s.from}
                x={x(Date.parse(s.from))}
                width={Math.max(0.15, x(until(i)) - x(Date.parse(s.from)))}
                y="8"
                height="10"
                fill="var(--mui-palette-primary-main)"
              />
            ),
        )}
      </svg>
    </Box>
  );
  return (
    <Box
      component="section"
      aria-label="What was seen on both sides"
      sx={{ mt: 2, p: 1.5, bgcolor: 'background.paper', border: 1, borderColor: 'divider' }}
    >
      <Box
        sx={{
          display: 'flex',
          justifyContent: 'space-between',
          fontSize: 12,
          color: 'text.secondary',
          pl: '162px',
          mb: 0.5,
        }}
      >
        <span>{localTime(begin, zone)}</span>
        <span>a write was tried each second; bars: it succeeded</span>
        <span>{localTime(end, zone)}</span>
      </Box>
      {lane('here', drill.from, (s) => s.here)}
      {lane('there', drill.to, (s) => s.there)}
      {lane('clients', 'through the usual address', (s) => s.clients)}
      <Box sx={{ mt: 0.75 }}>
        {stopped.length === 0
          ? 'Writes go on.'
          : stopped.map((b, i) => (
              <span key={b.from}>
                {i > 0 && '; '}
                {i === 0 ? 'Nobody could write for ' : 'then for '}
                <b>{duration(b.seconds)}</b>
              </span>
            ))}
        {stopped.length > 0 && (run.ended ? '' : ' so far')}
        {stopped.length > 0 && (
          <>
            ; clients were without service for <b>{duration(withoutServiceSeconds)}</b>.
          </>
        )}
        {bothWritable > 0 && (
          <Box component="b" sx={{ color: 'error.main' }}>
            {' '}
            Both sides took writes.
          </Box>
        )}
      </Box>
    </Box>
  );
}
