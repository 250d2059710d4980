import Box from '@mui/material/Box';
import { useQuery } from '@tanstack/react-query';
import { api, got, type Schemas } from '../../api/client';
import { bytes, duration } from '../../shared/format';

/** Where both sides stand now, by what they say themselves: positions, and how far they lie apart. */
export function Positions({ row }: { row: Schemas['ReplicaRow'] }) {
  const positions = useQuery({
    queryKey: ['replica-positions', row.id],
    retry: false,
    refetchInterval: 5000,
    queryFn: () => got(api.GET('/api/replicas/{id}/positions', { params: { path: { id: row.id } } })),
  });
  // Where no driver acts on it there is nobody to ask.
  if (positions.error) return <Box sx={{ fontSize: 12, color: 'text.secondary' }}>{positions.error.message}</Box>;
  const p = positions.data;
  if (!p) return null;
  const apart = (size: number | null, seconds: number | null, transactions: number | null) =>
    size === null
      ? 'the primary does not answer'
      : size === 0
        ? 'all of it'
        : [
            `${bytes(size)} behind`,
            seconds === null ? null : duration(seconds),
            transactions === null ? null : `${transactions.toLocaleString('en')} transactions`,
          ]
            .filter(Boolean)
            .join(' · ');
  const all = p.notReceivedBytes === null ? null : p.notReceivedBytes + p.notAppliedBytes;
  return (
    <Box component="section" aria-label="Where both sides stand">
      <h2 style={{ fontSize: 14, margin: '0 0 4px' }}>Where both sides stand</h2>
      <Box
        component="table"
        sx={{
          borderCollapse: 'collapse',
          fontSize: 13,
          width: '100%',
          '& td': { py: 0.25, pr: 2, verticalAlign: 'top', fontVariantNumeric: 'tabular-nums' },
        }}
      >
        <tbody>
          <Line word="written at the primary" position={p.written ?? 'not known'} />
          <Line
            word="received here"
            position={p.received}
            apart={apart(p.notReceivedBytes, row.receivedLagSeconds, p.notReceivedTransactions)}
          />
          <Line
            word="applied here"
            position={p.applied}
            apart={
              all === null
                ? `${bytes(p.notAppliedBytes)} received and not applied`
                : apart(all, row.appliedLagSeconds, p.notAppliedTransactions)
            }
          />
        </tbody>
      </Box>
    </Box>
  );
}

function Line({ word, position, apart }: { word: string; position: string; apart?: string }) {
  return (
    <tr>
      <Box component="td" sx={{ color: 'text.secondary', width: 170 }}>
        {word}
      </Box>
      <td>
        <b>{position}</b>
      </td>
      <Box component="td" sx={{ color: 'text.secondary', width: '50%' }}>
        {apart}
      </Box>
    </tr>
  );
}
