import Box from '@mui/material/Box';
import { Link, useLocation } from 'react-router';
import type { Schemas } from '../../api/client';
import { withPremise } from '../../app/premise';
import { duration, localTime } from '../../shared/format';

/** What its replicas would do instead: what each reaches and takes by taking over, or why it cannot. */
export function TakeOvers({ ways, zone, rto }: { ways: Schemas['TakeOverView'][]; zone: string; rto: number | null }) {
  const { search } = useLocation();
  if (ways.length === 0) return null;
  return (
    <Box component="section" aria-label="Taking over" sx={{ mt: 2 }}>
      <h2 style={{ fontSize: 14, margin: '0 0 4px' }}>Or a replica takes over</h2>
      {ways.map((w) => (
        <Box
          key={w.replica}
          sx={{
            display: 'grid',
            gridTemplateColumns: '150px minmax(0, 1fr)',
            gap: 1.5,
            py: 0.5,
            borderTop: 1,
            borderColor: 'divider',
          }}
        >
          <Link to={withPremise(`/replicas/${w.replica}`, search)}>{w.replica}</Link>
          {w.whyNot === null ? (
            <Box>
              lose <b>{duration(w.lostSeconds)}</b>, back in{' '}
              <Box
                component="b"
                sx={{ color: rto !== null && w.serviceSeconds! > rto ? 'verdict.breached' : undefined }}
              >
                {duration(w.serviceSeconds)}
              </Box>{' '}
              on {w.host}
              {w.byItself && ', by itself'}; reaches {localTime(w.reaches!, zone)}
              {w.workSeconds! >= 0.05 && `, ${duration(w.workSeconds)} of it to apply or go back`}
            </Box>
          ) : (
            <Box sx={{ color: 'text.secondary' }}>cannot: {w.whyNot}</Box>
          )}
        </Box>
      ))}
      <Box sx={{ fontSize: 12, color: 'text.secondary', mt: 0.5 }}>
        Taking over changes where the database lives; it is begun from the page of the replica.
      </Box>
    </Box>
  );
}
