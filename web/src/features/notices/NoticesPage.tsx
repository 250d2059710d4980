import Box from '@mui/material/Box';
import { useQuery } from '@tanstack/react-query';
import { api, got } from '../../api/client';
import { useZone } from '../../app/places';
import { Failure } from '../../shared/Failure';
import { localTime } from '../../shared/format';
import { TimetableTabs } from '../timetable/TimetableTabs';

/** The mailbox inside the product: what plans told people, what has one cause as one message. */
export default function NoticesPage() {
  const zone = useZone();
  const notices = useQuery({ queryKey: ['runs', 'notices'], queryFn: () => got(api.GET('/api/notices')) });
  if (notices.error) return <Failure error={notices.error} />;
  return (
    <Box sx={{ p: 2, maxWidth: 1180 }}>
      <TimetableTabs title="Notices" />
      {notices.data?.length === 0 && (
        <Box sx={{ color: 'text.secondary' }}>
          Nobody was told anything yet. Plans say who is told of failures, lateness and silence.
        </Box>
      )}
      {notices.data?.map((n) => (
        <Box
          key={n.id}
          sx={{
            display: 'grid',
            gridTemplateColumns: '150px 60px minmax(0, 1fr) 200px',
            gap: 1.5,
            py: 0.75,
            borderTop: 1,
            borderColor: 'divider',
          }}
        >
          <span>{localTime(n.lastAt, zone, false)}</span>
          <Box sx={{ color: n.kind === 'failed' ? 'verdict.breached' : 'text.secondary' }}>{n.kind}</Box>
          <Box>
            <b>{n.subject}</b>
            <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
              {n.count} {n.count === 1 ? 'time' : 'times'}
              {n.count > 1 && ` since ${localTime(n.firstAt, zone, false)}`} · {n.databases.slice(0, 6).join(', ')}
              {n.databases.length > 6 && ` and ${n.databases.length - 6} more`}
            </Box>
          </Box>
          <Box sx={{ color: 'text.secondary' }}>to {n.people.join(', ')}</Box>
        </Box>
      ))}
    </Box>
  );
}
