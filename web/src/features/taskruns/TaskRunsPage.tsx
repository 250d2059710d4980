import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import ToggleButton from '@mui/material/ToggleButton';
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup';
import { useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { Link, useLocation, useSearchParams } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useZone } from '../../app/places';
import { withPremise } from '../../app/premise';
import { Failure } from '../../shared/Failure';
import { bytes, count, duration, localTime } from '../../shared/format';
import { kindWord } from '../plans/draft';
import { TimetableTabs } from '../timetable/TimetableTabs';

export const stateWord: Record<string, string> = {
  waiting: 'waits',
  running: 'under way',
  done: 'done',
  failed: 'failed',
  leftOut: 'left out',
  cancelled: 'ended by hand',
};

const columns = '124px 132px minmax(110px, 150px) minmax(120px, 1fr) 76px 108px 66px minmax(120px, 1.4fr)';

/** Everything that ran or should have; the filters are in the address. */
export default function TaskRunsPage() {
  const zone = useZone();
  const { search } = useLocation();
  const [params, setParams] = useSearchParams();
  const get = (k: string) => params.get(k) ?? '';
  const put = (key: string, value: string | null) =>
    setParams(
      (before) => {
        const next = new URLSearchParams(before);
        if (value) next.set(key, value);
        else next.delete(key);
        return next;
      },
      { replace: key === 'find' },
    );
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
    queryKey: ['task-runs', query],
    initialPageParam: undefined as string | undefined,
    queryFn: ({ pageParam }) =>
      got(api.GET('/api/task-runs', { params: { query: { ...query, before: pageParam, take: 40 } } })),
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
          onChange={(_, v: string | null) => put('state', v)}
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
          onChange={(e) => put('plan', e.target.value)}
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
          onChange={(e) => put('kind', e.target.value)}
          sx={{ width: 140 }}
        >
          <MenuItem value="">all</MenuItem>
          {Object.entries(kindWord).map(([k, w]) => (
            <MenuItem key={k} value={k}>
              {w}
            </MenuItem>
          ))}
        </TextField>
        <TextField
          label="Search database, task, note"
          value={get('find')}
          onChange={(e) => put('find', e.target.value)}
          sx={{ width: 240 }}
        />
        <Button onClick={() => put('odd', get('odd') ? null : 'yes')} aria-pressed={get('odd') !== ''}>
          {get('odd') ? 'All sizes and lengths' : 'Only what stands out'}
        </Button>
        {get('each') && <Button onClick={() => put('each', null)}>Equal failures as one row</Button>}
        {get('database') && <Button onClick={() => put('database', null)}>Only {get('database')}; show all</Button>}
      </Box>
      <Box role="table" aria-label="Runs">
        <Box
          role="row"
          sx={{
            display: 'grid',
            gridTemplateColumns: columns,
            gap: 1,
            color: 'text.secondary',
            fontSize: 12,
            borderBottom: 1,
            borderColor: 'line',
            pb: 0.5,
          }}
        >
          {['Due', 'State', 'Task', 'Database', 'Stored', 'Took / expected', 'Attempts', 'Note'].map((h) => (
            <span role="columnheader" key={h}>
              {h}
            </span>
          ))}
        </Box>
        {runs.map((r) => (
          <RunRow
            key={r.id}
            run={r}
            zone={zone}
            to={withPremise(`/task-runs/${r.id}`, search)}
            each={withPremise('/task-runs', search, {
              state: 'failed',
              plan: r.plan,
              database: r.database,
              kind: r.kind,
              each: 'yes',
            })}
          />
        ))}
        {pages.isSuccess && runs.length === 0 && (
          <Box role="row" sx={{ py: 3, color: 'text.secondary' }}>
            <span role="cell">No run is like that. Change the filters above.</span>
          </Box>
        )}
      </Box>
      {pages.hasNextPage && (
        <Button onClick={() => void pages.fetchNextPage()} disabled={pages.isFetchingNextPage}>
          Show earlier runs
        </Button>
      )}
    </Box>
  );
}

/** Seconds a run took; null while it is not over. */
export const took = (r: Schemas['TaskRunLine']) =>
  r.started && r.ended ? (Date.parse(r.ended) - Date.parse(r.started)) / 1000 : null;

function RunRow({
  run: r,
  zone,
  to,
  each,
}: {
  run: Schemas['TaskRunLine'];
  zone: string;
  to: string;
  /** Where every one of the failures it stands for is a row. */
  each: string;
}) {
  const seconds = took(r);
  return (
    <Box
      role="row"
      sx={{
        display: 'grid',
        gridTemplateColumns: columns,
        gap: 1,
        minHeight: 32,
        alignItems: 'center',
        borderBottom: 1,
        borderColor: 'divider',
        '&:hover': { bgcolor: 'background.paper' },
      }}
    >
      <span role="cell">
        <Link to={to} style={{ textDecoration: 'none' }}>
          {localTime(r.due, zone, false)}
        </Link>
      </span>
      <Box
        role="cell"
        sx={{
          fontWeight: 600,
          color: r.state === 'failed' ? 'verdict.breached' : r.state === 'leftOut' ? 'verdict.atRisk' : 'text.primary',
        }}
      >
        {stateWord[r.state]}
        {r.like > 1 && ` ${count(r.like)} times`}
      </Box>
      <span role="cell">
        {kindWord[r.kind]} · {r.plan}
      </span>
      <span role="cell">{r.databaseName}</span>
      <span role="cell">{r.storedBytes > 0 ? bytes(r.storedBytes) : ''}</span>
      <span role="cell">
        {seconds === null ? '' : duration(seconds)}
        {r.expectedSeconds > 0 && (
          <Box component="span" sx={{ color: 'text.secondary' }}>
            {' '}
            / {duration(r.expectedSeconds)}
          </Box>
        )}
      </span>
      <span role="cell">{r.attempts > 0 ? r.attempts : ''}</span>
      <Box
        role="cell"
        sx={{ overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: 'nowrap' }}
        title={r.note ?? undefined}
      >
        {r.like > 1 && (
          <Link to={each} style={{ marginRight: 6 }}>
            since {localTime(r.firstLike!, zone, false)}
          </Link>
        )}
        {r.oddity && (
          <Box component="span" sx={{ color: 'verdict.atRisk', fontWeight: 600 }}>
            {r.oddity}{' '}
          </Box>
        )}
        {r.note}
        {r.askedBy && ` asked for by ${r.askedBy}`}
      </Box>
    </Box>
  );
}
