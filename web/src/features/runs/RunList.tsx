import Box from '@mui/material/Box';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import { useQuery } from '@tanstack/react-query';
import { Link, useLocation } from 'react-router';
import { api, got } from '../../api/client';
import { useZone } from '../../app/places';
import { withPremise } from '../../app/premise';
import { localTime } from '../../shared/format';

/** The newest runs. */
export function RunList() {
  const zone = useZone();
  const { search } = useLocation();
  const runs = useQuery({
    queryKey: ['runs'],
    queryFn: () => got(api.GET('/api/runs', { params: { query: { take: 30 } } })),
  });
  return (
    <Box component="section">
      <h2 style={{ fontSize: 15 }}>Runs</h2>
      {runs.data?.length === 0 && <Box sx={{ color: 'text.secondary' }}>No restore was begun here yet.</Box>}
      {(runs.data?.length ?? 0) > 0 && (
        <Table size="small" aria-label="Runs">
          <TableHead>
            <TableRow>
              {['Database', 'State', 'Instance', 'Begun', 'Message'].map((h) => (
                <TableCell key={h}>{h}</TableCell>
              ))}
            </TableRow>
          </TableHead>
          <TableBody>
            {runs.data!.map((r) => (
              <TableRow key={r.id} hover>
                <TableCell>
                  <Link to={withPremise(`/runs/${r.id}`, search)}>{r.databaseName}</Link>
                </TableCell>
                <TableCell>{r.state}</TableCell>
                <TableCell>
                  {r.instance} on {r.host}
                </TableCell>
                <TableCell>
                  {localTime(r.createdAt, zone)} by {r.createdBy}
                </TableCell>
                <TableCell>{r.message}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
    </Box>
  );
}
