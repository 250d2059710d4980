import Box from '@mui/material/Box';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got } from '../../api/client';
import { Failure } from '../../shared/Failure';
import { bytes, duration } from '../../shared/format';

/** The ways its engine family allows to copy this database, side by side; simulated when they are asked for. */
export function WaysTable({ database }: { database: string }) {
  const [open, setOpen] = useState(false);
  const ways = useQuery({
    queryKey: ['ways', database],
    enabled: open,
    staleTime: 300_000,
    queryFn: () => got(api.GET('/api/databases/{id}/ways', { params: { path: { id: database } } })),
  });
  return (
    <Box
      component="details"
      onToggle={(e) => setOpen(e.currentTarget.open)}
      sx={{ mt: 2, '& summary': { cursor: 'pointer', fontSize: 15, fontWeight: 650 } }}
    >
      <summary>Ways to copy it, compared</summary>
      {ways.error && <Failure error={ways.error} />}
      {ways.isFetching && <Box sx={{ color: 'text.secondary' }}>Simulating a week of each…</Box>}
      {ways.data && (
        <Box
          component="table"
          aria-label="Ways to copy it"
          sx={{
            width: '100%',
            mt: 1,
            borderCollapse: 'collapse',
            '& th': { textAlign: 'left', fontWeight: 400, color: 'text.secondary', fontSize: 12 },
            '& td': { py: 0.75, pr: 1.5, borderTop: 1, borderColor: 'divider', verticalAlign: 'top' },
          }}
        >
          <thead>
            <tr>
              <th>Way</th>
              <th>Longest to take</th>
              <th>Stored a week</th>
              <th>Back in, at worst</th>
              <th>Could lose</th>
              <th>Does not keep</th>
            </tr>
          </thead>
          <tbody>
            {ways.data.map((w) => (
              <tr key={w.name}>
                <td>{w.name}</td>
                <td>{duration(w.takeSeconds)}</td>
                <td>{bytes(w.storedBytesPerWeek)}</td>
                <td>{w.restoreSeconds === null ? 'no way back' : duration(w.restoreSeconds)}</td>
                <td>{w.worstExposureSeconds === null ? 'all of it' : duration(w.worstExposureSeconds)}</td>
                <td>{w.doesNotKeep.join('; ')}</td>
              </tr>
            ))}
          </tbody>
        </Box>
      )}
    </Box>
  );
}
