import Box from '@mui/material/Box';
import { Link, useLocation } from 'react-router';
import type { Schemas } from '../../api/client';
import { nowMs } from '../../app/live';
import { useZone } from '../../app/places';
import { withPremise } from '../../app/premise';
import { bytes, duration, localTime } from '../../shared/format';
import { runKindWord, stateWord, took } from './words';

/** The bars of what really was, beside those of what was expected. */
const actual = new Set(['took', 'so far']);

/** How long and how large a run was against what was expected and against its like; its log, and what followed. */
export function RunFacts({ view }: { view: Schemas['RunView'] }) {
  const zone = useZone();
  const { search } = useLocation();
  const { run: r, steps, log, followed, usualSeconds, usualBytes } = view;
  const seconds = took(r);
  const bars: [string, number | null][] = [
    ['took', seconds],
    ['so far', r.started && !r.ended ? Math.max(0, (nowMs() - Date.parse(r.started)) / 1000) : null],
    ['expected, alone', r.expectedSeconds > 0 ? r.expectedSeconds : null],
    ['usual', usualSeconds],
  ];
  const longest = Math.max(1, ...bars.map(([, s]) => s ?? 0));
  return (
    <>
      {steps.length === 0 && (
        <Box
          sx={{
            display: 'grid',
            gridTemplateColumns: '130px minmax(0, 1fr) 110px',
            gap: 1,
            mt: 2,
            alignItems: 'center',
          }}
        >
          {bars
            .filter(([, s]) => s !== null)
            .map(([word, s]) => (
              <Box key={word} sx={{ display: 'contents' }}>
                <Box sx={{ color: 'text.secondary' }}>{word}</Box>
                <Box
                  sx={{
                    height: 10,
                    width: `max(2px, ${(s! / longest) * 100}%)`,
                    bgcolor: actual.has(word) ? 'primary.main' : 'transparent',
                    border: 1,
                    borderColor: actual.has(word) ? 'primary.main' : 'text.secondary',
                  }}
                />
                <span>{duration(s)}</span>
              </Box>
            ))}
        </Box>
      )}
      <Box sx={{ mt: 2 }}>
        {r.started && `Started ${localTime(r.started, zone)}`}
        {r.ended && `${r.started ? ', ended' : 'Ended'} ${localTime(r.ended, zone)}`}
        {r.attempts > 1 && `, ${r.attempts} attempts`}
        {r.storedBytes > 0 && ` · ${bytes(r.storedBytes)} stored${r.dataBytes > 0 ? ` of ${bytes(r.dataBytes)}` : ''}`}
        {seconds !== null && seconds > 0 && r.storedBytes > 0 && `, ${bytes(r.storedBytes / seconds)}/s`}
        {usualBytes !== null && usualBytes > 0 && `; usual ${bytes(usualBytes)}`}
        {r.set && (
          <>
            {' · '}
            <Link to={withPremise(`/databases/${r.database}`, search, { set: r.set })}>
              <code>{r.set}</code>
            </Link>
          </>
        )}
      </Box>
      {r.after && (
        <Box sx={{ mt: 1 }}>
          It followed <Link to={withPremise(`/runs/${r.after}`, search)}>this run</Link>.
        </Box>
      )}
      {log.length > 0 && (
        <Box component="section" sx={{ mt: 2 }}>
          <h2 style={{ fontSize: 15, margin: '0 0 4px' }}>Log</h2>
          {log.map((l, i) => (
            <Box key={i}>
              <Box component="span" sx={{ color: 'text.secondary', mr: 1 }}>
                {localTime(l.at, zone)}
              </Box>
              {l.text}
            </Box>
          ))}
        </Box>
      )}
      {followed.length > 0 && (
        <Box component="section" sx={{ mt: 2 }}>
          <h2 style={{ fontSize: 15, margin: '0 0 4px' }}>What followed</h2>
          {followed.map((f) => (
            <Box key={f.id}>
              <Link to={withPremise(`/runs/${f.id}`, search)}>{runKindWord[f.kind] ?? f.kind}</Link>{' '}
              {stateWord[f.state]}
              {f.note && `: ${f.note}`}
            </Box>
          ))}
        </Box>
      )}
    </>
  );
}
