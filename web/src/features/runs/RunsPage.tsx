import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import ToggleButton from '@mui/material/ToggleButton';
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup';
import { useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { api, got } from '../../api/client';
import { useAddress } from '../../app/address';
import { Failure } from '../../shared/Failure';
import { TimetableTabs } from '../timetable/TimetableTabs';
import { RunsTable } from './RunsTable';
import { runKindWord, stateWord } from './words';

/** Everything that ran or should have; the filters are in the address. */
export default function RunsPage() {
  const [params, put] = useAddress();
  const get = (k: string) => params.get(k) ?? '';
  const plans = useQuery({ queryKey: ['plans'], queryFn: () => got(api.GET('/api/plans')) });
  const query = {
    state: get('state') || undefined,
    kind: get('kind') || undefined,
    plan: get('plan') || undefined,
    database: get('database') || undefined,
    find: get('find') || undefined,
    odd: get('odd') || undefined,
    // Equal failures are one row, unless one wants each of them.
    fold: get('each') ? undefined : true,
  };
  const pages = useInfiniteQuery({
    queryKey: ['runs', query],
    initialPageParam: undefined as string | undefined,
    queryFn: ({ pageParam }) =>
      got(api.GET('/api/runs', { params: { query: { ...query, before: pageParam, take: 40 } } })),
    getNextPageParam: (last) => last.next ?? undefined,
  });
  if (pages.error) return <Failure error={pages.error} again={() => void pages.refetch()} />;
  const runs = pages.data?.pages.flatMap((p) => p.runs) ?? [];
  return (
    <Box sx={{ p: 2 }}>
      <TimetableTabs title="Runs">
        <Box sx={{ flex: 1 }} />
        <ToggleButtonGroup
          size="small"
          exclusive
          value={get('state') || null}
          onChange={(_, v: string | null) => put({ state: v })}
          aria-label="Only runs that"
        >
          {Object.entries(stateWord).map(([k, w]) => (
            <ToggleButton key={k} value={k} sx={{ py: 0.25, textTransform: 'none' }}>
              {w}
            </ToggleButton>
          ))}
        </ToggleButtonGroup>
      </TimetableTabs>
      <Box sx={{ display: 'flex', gap: 1, mb: 1 }}>
        <TextField
          select
          label="Plan"
          value={get('plan')}
          onChange={(e) => put({ plan: e.target.value || null })}
          sx={{ width: 190 }}
        >
          <MenuItem value="">all</MenuItem>
          {(plans.data?.plans ?? []).map((p) => (
            <MenuItem key={p.id} value={p.id}>
              {p.name}
            </MenuItem>
          ))}
        </TextField>
        <TextField
          select
          label="Kind"
          value={get('kind')}
          onChange={(e) => put({ kind: e.target.value || null })}
          sx={{ width: 140 }}
        >
          <MenuItem value="">all</MenuItem>
          {Object.entries(runKindWord).map(([k, w]) => (
            <MenuItem key={k} value={k}>
              {w}
            </MenuItem>
          ))}
        </TextField>
        <TextField
          label="Search database, task, note"
          value={get('find')}
          onChange={(e) => put({ find: e.target.value || null }, true)}
          sx={{ width: 240 }}
        />
        <Button onClick={() => put({ odd: get('odd') ? null : 'yes' })} aria-pressed={get('odd') !== ''}>
          {get('odd') ? 'All sizes and lengths' : 'Only what stands out'}
        </Button>
        {get('each') && <Button onClick={() => put({ each: null })}>Equal failures as one row</Button>}
        {get('database') && <Button onClick={() => put({ database: null })}>Only {get('database')}; show all</Button>}
      </Box>
      <RunsTable runs={runs} empty={pages.isSuccess ? 'No run is like that. Change the filters above.' : ''} />
      {pages.hasNextPage && (
        <Button onClick={() => void pages.fetchNextPage()} disabled={pages.isFetchingNextPage}>
          Show earlier runs
        </Button>
      )}
    </Box>
  );
}
