import Box from '@mui/material/Box';
import { Link, useLocation } from 'react-router';
import type { Schemas } from '../../api/client';
import { useZone } from '../../app/places';
import { withPremise } from '../../app/premise';
import { bytes, localTime } from '../../shared/format';
import { runKindWord, stateWord, took } from './words';

/** When and how large a run was, its log, and what followed. */
export function RunFacts({ view }: { view: Schemas['RunView'] }) {
  const zone = useZone();
  const { search } = useLocation();
  const { run: r, restore, log, followed, usualBytes } = view;
  const seconds = took(r);
  return (
    <>
      <Box sx={{ mt: 2 }}>
        {r.started && `Started ${localTime(r.started, zone)}`}
        {r.ended && `${r.started ? ', ended' : 'Ended'} ${localTime(r.ended, zone)}`}
        {r.attempts > 1 && `, ${r.attempts} attempts`}
        {!restore &&
          r.storedBytes > 0 &&
          ` · ${bytes(r.storedBytes)} stored${r.dataBytes > 0 ? ` of ${bytes(r.dataBytes)}` : ''}`}
        {!restore && seconds !== null && seconds > 0 && r.storedBytes > 0 && `, ${bytes(r.storedBytes / seconds)}/s`}
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
