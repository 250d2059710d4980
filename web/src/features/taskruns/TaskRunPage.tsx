import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useMutation, useQuery } from '@tanstack/react-query';
import { Link, useLocation, useParams } from 'react-router';
import { api, got } from '../../api/client';
import { nowMs } from '../../app/live';
import { useZone } from '../../app/places';
import { withPremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { Failure } from '../../shared/Failure';
import { bytes, duration, localTime, utc } from '../../shared/format';
import { kindWord } from '../plans/draft';
import { stateWord, took } from './TaskRunsPage';

/** The bars of what really was, beside those of what was expected. */
const actual = new Set(['took', 'so far']);

/** One run of a task: against what was expected and against its like, its log, and what followed. */
export default function TaskRunPage() {
  const { id = '' } = useParams();
  const zone = useZone();
  const { search } = useLocation();
  const may = useMay('operate');
  const run = useQuery({
    queryKey: ['task-runs', 'one', id],
    queryFn: () => got(api.GET('/api/task-runs/{id}', { params: { path: { id } } })),
    refetchInterval: (q) => (q.state.data?.run.ended ? false : 1500),
  });
  const cancel = useMutation({
    mutationFn: () => got(api.POST('/api/task-runs/{id}/cancel', { params: { path: { id } } })),
    onSuccess: () => void run.refetch(),
  });
  if (run.error) return <Failure error={run.error} />;
  if (!run.data) return <Box sx={{ p: 3, color: 'text.secondary' }}>Opening…</Box>;
  const { run: r, log, followed, usualSeconds, usualBytes } = run.data;
  const seconds = took(r);
  const bars: [string, number | null][] = [
    ['took', seconds],
    ['so far', r.started && !r.ended ? Math.max(0, (nowMs() - Date.parse(r.started)) / 1000) : null],
    ['expected, alone', r.expectedSeconds > 0 ? r.expectedSeconds : null],
    ['usual', usualSeconds],
  ];
  const longest = Math.max(1, ...bars.map(([, s]) => s ?? 0));
  return (
    <Box sx={{ p: 2, maxWidth: 1000 }}>
      <Box sx={{ display: 'flex', alignItems: 'baseline', gap: 2 }}>
        <h1 style={{ fontSize: 20, margin: 0 }}>
          {kindWord[r.kind]} of {r.databaseName}
        </h1>
        <Box
          data-testid="task-run-state"
          sx={{ fontWeight: 650, color: r.state === 'failed' ? 'verdict.breached' : 'primary.main' }}
        >
          {stateWord[r.state]}
        </Box>
        <Box sx={{ flex: 1 }} />
        {may && !r.ended && <Button onClick={() => cancel.mutate()}>End it</Button>}
      </Box>
      <Box sx={{ color: 'text.secondary' }}>
        <Link to={withPremise(`/plans/${r.plan}`, search)}>{r.plan}</Link>, {r.task} · due{' '}
        <span title={utc(r.due)}>{localTime(r.due, zone)}</span>
        {r.askedBy && ` · asked for by ${r.askedBy}`} ·{' '}
        <Link to={withPremise(`/databases/${r.database}`, search)}>the database</Link> ·{' '}
        <Link to={withPremise('/task-runs', search, { database: r.database })}>its other runs</Link>
      </Box>
      {cancel.error && <Failure error={cancel.error} />}
      {r.note && (
        <Box sx={{ mt: 1, fontWeight: 600, color: r.state === 'failed' ? 'verdict.breached' : 'text.primary' }}>
          {r.note}
        </Box>
      )}
      {r.oddity && <Box sx={{ mt: 1, fontWeight: 600, color: 'verdict.atRisk' }}>It is {r.oddity}.</Box>}
      <Box
        sx={{ display: 'grid', gridTemplateColumns: '130px minmax(0, 1fr) 110px', gap: 1, mt: 2, alignItems: 'center' }}
      >
        {bars
          .filter(([, s]) => s !== null)
          .map(([word, s]) => (
            <Box key={word} sx={{ display: 'contents' }}>
              <Box sx={{ color: 'text.secondary' }}>{word}</Box>
              <Box
                sx={{
                  height: 10,
                  width: `max(2px, ${(s! / longest) * 100}%)`,
                  bgcolor: actual.has(word) ? 'primary.main' : 'transparent',
                  border: 1,
                  borderColor: actual.has(word) ? 'primary.main' : 'text.secondary',
                }}
              />
              <span>{duration(s)}</span>
            </Box>
          ))}
      </Box>
      <Box sx={{ mt: 2 }}>
        {r.started && `Started ${localTime(r.started, zone)}`}
        {r.ended && `, ended ${localTime(r.ended, zone)}`}
        {r.attempts > 1 && `, ${r.attempts} attempts`}
        {r.storedBytes > 0 && ` · ${bytes(r.storedBytes)} stored${r.dataBytes > 0 ? ` of ${bytes(r.dataBytes)}` : ''}`}
        {seconds !== null && seconds > 0 && r.storedBytes > 0 && `, ${bytes(r.storedBytes / seconds)}/s`}
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
          It followed <Link to={withPremise(`/task-runs/${r.after}`, search)}>this run</Link>.
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
              <Link to={withPremise(`/task-runs/${f.id}`, search)}>{kindWord[f.kind]}</Link> {stateWord[f.state]}
              {f.note && `: ${f.note}`}
            </Box>
          ))}
        </Box>
      )}
    </Box>
  );
}
