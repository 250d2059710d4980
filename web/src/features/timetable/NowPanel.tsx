import Box from '@mui/material/Box';
import { useQuery } from '@tanstack/react-query';
import { Link, useLocation } from 'react-router';
import { api, got } from '../../api/client';
import { useClock } from '../../app/live';
import { withPremise } from '../../app/premise';
import { duration } from '../../shared/format';
import { runKindWord } from '../runs/words';

/** What runs now, and how far it is against how long it takes alone. */
export function NowPanel() {
  const { search } = useLocation();
  const now = useClock()?.now ?? 0;
  const runs = useQuery({
    queryKey: ['runs', 'now'],
    refetchInterval: 5000,
    queryFn: () => got(api.GET('/api/runs', { params: { query: { state: 'running,waiting', take: 60 } } })),
  });
  const all = runs.data?.runs ?? [];
  const going = all.filter((r) => r.state === 'running');
  const waits = all.filter((r) => r.state === 'waiting' && Date.parse(r.due) <= now).length;
  return (
    <Box component="section" aria-label="Runs now" sx={{ mb: 2.5 }}>
      <h2 style={{ margin: '2px 0 4px', fontSize: 15 }}>
        Runs now{going.length > 0 && `: ${going.length}${all.length === 60 ? ' or more' : ''}`}
        {waits > 0 && `, ${waits} wait`}
      </h2>
      {runs.data && going.length === 0 && <Box sx={{ color: 'text.secondary' }}>Nothing at this moment.</Box>}
      {going.slice(0, 8).map((r) => {
        const seconds = r.started ? Math.max(0, (now - Date.parse(r.started)) / 1000) : 0;
        const part = r.expectedSeconds > 0 ? seconds / r.expectedSeconds : null;
        return (
          <Box key={r.id} sx={{ py: 0.25 }}>
            <Box sx={{ display: 'flex', justifyContent: 'space-between', gap: 1, fontSize: 12.5 }}>
              <Link to={withPremise(`/runs/${r.id}`, search)} style={{ textDecoration: 'none' }}>
                {runKindWord[r.kind] ?? r.kind} of {r.databaseName}
              </Link>
              <Box component="span" sx={{ color: part !== null && part > 4 ? 'verdict.breached' : 'text.secondary' }}>
                {duration(seconds)}
                {r.expectedSeconds > 0 && ` of ${duration(r.expectedSeconds)}`}
              </Box>
            </Box>
            <Box sx={{ height: 3, bgcolor: 'divider' }}>
              <Box
                sx={{
                  height: 3,
                  width: `${Math.min(1, part ?? 0) * 100}%`,
                  bgcolor: part !== null && part > 4 ? 'verdict.breached' : 'primary.main',
                }}
              />
            </Box>
          </Box>
        );
      })}
      {going.length > 8 && (
        <Link to={withPremise('/runs', search, { state: 'running' })}>and {going.length - 8} more</Link>
      )}
    </Box>
  );
}
