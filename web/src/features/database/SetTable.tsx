import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import MenuItem from '@mui/material/MenuItem';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import TextField from '@mui/material/TextField';
import { useInfiniteQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got, type Schemas } from '../../api/client';
import { Failure } from '../../shared/Failure';
import { bytes, localTime, utc } from '../../shared/format';
import { Said } from '../../shared/Said';

type Kind = Schemas['SetKind'];
const kinds: Kind[] = ['full', 'differential', 'incremental', 'snapshot', 'export', 'log'];

/** The sets as a table, newest first, and the chain of the chosen one. */
export function SetTable(props: {
  database: string;
  zone: string;
  total: number;
  chosen: string | null;
  onChoose: (set: string | null) => void;
  chain?: Schemas['ChainView'];
}) {
  const { database, zone, chosen, chain } = props;
  const [kind, setKind] = useState<Kind | ''>('');
  const pages = useInfiniteQuery({
    queryKey: ['database', database, 'sets', kind],
    initialPageParam: undefined as string | undefined,
    queryFn: ({ pageParam }) =>
      got(
        api.GET('/api/databases/{id}/sets', {
          params: { path: { id: database }, query: { before: pageParam, take: 30, ...(kind && { kind }) } },
        }),
      ),
    getNextPageParam: (last) => last.next ?? undefined,
  });
  const sets = pages.data?.pages.flatMap((p) => p.sets) ?? [];
  if (pages.error) return <Failure error={pages.error} />;
  return (
    <Box component="section" sx={{ mt: 2 }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 2, mb: 1 }}>
        <h2 style={{ margin: 0, fontSize: 15 }}>Sets · {props.total.toLocaleString('en-GB')}</h2>
        <TextField
          select
          label="Kind"
          value={kind}
          onChange={(e) => setKind(e.target.value as Kind | '')}
          sx={{ minWidth: 140 }}
        >
          <MenuItem value="">every kind</MenuItem>
          {kinds.map((k) => (
            <MenuItem key={k} value={k}>
              {k}
            </MenuItem>
          ))}
        </TextField>
        {chain && chosen && (
          <Box sx={{ fontSize: 12.5 }} role="status">
            <code>{chosen}</code> needs{' '}
            {chain.needs.length === 0
              ? 'no other set'
              : `${chain.needs.length} ${chain.needs.length === 1 ? 'set' : 'sets'}`}
            ; {chain.neededBy === 0 ? 'no set needs it' : `${chain.neededBy} could not be restored without it`}
            {chain.unusable && (
              <Box sx={{ color: 'verdict.breached' }}>
                It cannot be used: <Said text={chain.unusable} zone={zone} />
              </Box>
            )}{' '}
            <Button onClick={() => props.onChoose(null)}>Dim the chain</Button>
          </Box>
        )}
      </Box>
      {sets.length === 0 && pages.isSuccess ? (
        <Box sx={{ color: 'text.secondary' }}>
          No set of this kind. Sets appear here as backups finish, or when a catalogue file is imported.
        </Box>
      ) : (
        <Table size="small" aria-label="Backup sets">
          <TableHead>
            <TableRow>
              {['Kind', 'Set', 'Restores to', 'Position', 'Data', 'Copies'].map((h) => (
                <TableCell key={h}>{h}</TableCell>
              ))}
            </TableRow>
          </TableHead>
          <TableBody>
            {sets.map((s) => (
              <TableRow key={s.id} hover selected={s.id === chosen || chain?.needs.includes(s.id)}>
                <TableCell>{s.kind}</TableCell>
                <TableCell>
                  <Button
                    variant="text"
                    sx={{ p: 0, minWidth: 0, fontWeight: 400, whiteSpace: 'nowrap' }}
                    onClick={() => props.onChoose(s.id === chosen ? null : s.id)}
                  >
                    <code>{s.id}</code>
                  </Button>
                </TableCell>
                <TableCell title={utc(s.coversTo)} sx={{ whiteSpace: 'nowrap' }}>
                  {localTime(s.coversTo, zone)}
                </TableCell>
                <TableCell sx={{ whiteSpace: 'nowrap' }}>
                  <code>
                    {s.fromPosition !== null && `${s.fromPosition} – `}
                    {s.toPosition}
                  </code>
                </TableCell>
                <TableCell>
                  {bytes(s.dataBytes)}
                  {s.key && (
                    <Box sx={{ color: 'text.secondary', fontSize: 11.5, whiteSpace: 'nowrap' }}>key {s.key}</Box>
                  )}
                </TableCell>
                <TableCell>
                  <Copies of={s.copies} />
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
      {pages.hasNextPage && (
        <Button onClick={() => void pages.fetchNextPage()} disabled={pages.isFetchingNextPage} sx={{ mt: 1 }}>
          Show older sets
        </Button>
      )}
    </Box>
  );
}

const standing = (c: Schemas['CopyView']) => (c.removedAt ? 'removed' : c.state);

/** Where the copies of a set lie, by how they stand. */
function Copies({ of: copies }: { of: Schemas['CopyView'][] }) {
  return ['good', 'unverified', 'damaged', 'removed'].map((how) => {
    const these = copies.filter((c) => standing(c) === how);
    if (these.length === 0) return null;
    return (
      <Box
        key={how}
        sx={{ color: how === 'damaged' ? 'verdict.breached' : how === 'removed' ? 'text.secondary' : undefined }}
      >
        {these.map((c) => c.store + (c.lockedUntil && how !== 'removed' ? ' (locked)' : '')).join(', ')}
        {how !== 'good' && (
          <Box sx={{ fontSize: 11.5, color: how === 'damaged' ? undefined : 'text.secondary' }}>{how}</Box>
        )}
      </Box>
    );
  });
}
