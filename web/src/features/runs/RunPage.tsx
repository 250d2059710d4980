import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useLocation, useParams } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useZone } from '../../app/places';
import { withPremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { Failure } from '../../shared/Failure';
import { Figure } from '../../shared/Figure';
import { localTime, utc } from '../../shared/format';
import { Side } from '../../shared/Side';
import { SideSection } from '../../shared/SideSection';
import { Worksheet } from '../../shared/Worksheet';
import { StepBars } from './StepBars';

type State = Schemas['RunState'];

const words: Record<State, string> = {
  queued: 'waits to begin',
  running: 'is being restored',
  held: 'ready: look, then decide',
  releasing: 'clients are being let in',
  discarding: 'is being thrown away',
  cancelling: 'is being cancelled and cleaned up',
  released: 'released',
  discarded: 'checked and thrown away',
  cancelled: 'cancelled, nothing left behind',
  failed: 'could not be completed, nothing left behind',
};

/** A run: planned and actual on one time axis, the hold, what was checked and measured. */
export default function RunPage() {
  const { id = '' } = useParams();
  const zone = useZone();
  const may = useMay('operate');
  const queries = useQueryClient();
  const { search } = useLocation();
  const run = useQuery({
    queryKey: ['run', id],
    queryFn: () => got(api.GET('/api/runs/{id}', { params: { path: { id } } })),
    refetchInterval: (q) => (q.state.data?.endedAt ? false : 2000),
  });
  const decide = useMutation({
    mutationFn: (what: 'release' | 'throw-away' | 'cancel' | 'remove') => {
      const params = { params: { path: { id } } };
      return what === 'release'
        ? api.POST('/api/runs/{id}/release', params)
        : what === 'remove'
          ? api.POST('/api/runs/{id}/remove', params)
          : what === 'cancel'
            ? api.POST('/api/runs/{id}/cancel', params)
            : api.POST('/api/runs/{id}/throw-away', params);
    },
    onSettled: () => queries.invalidateQueries({ queryKey: ['run', id] }),
  });
  const r = run.data;
  if (run.error) return <Failure error={run.error} again={() => void run.refetch()} />;
  if (!r) return <Box sx={{ p: 3, color: 'text.secondary' }}>Opening…</Box>;
  const m = r.measured;
  const bad = m?.checks.filter((c) => !c.passed).length ?? 0;
  const open = r.state === 'queued' || r.state === 'running' || r.state === 'held';
  return (
    <Worksheet side={340}>
      <Box sx={{ p: 2, minWidth: 0 }}>
        <Box sx={{ display: 'flex', alignItems: 'baseline', gap: 1.5 }}>
          <h1 style={{ fontSize: 20, margin: 0 }}>
            Restore of <Link to={withPremise(`/databases/${r.database}`, search)}>{r.databaseName}</Link>
          </h1>
          <Box
            role="status"
            data-testid="run-state"
            data-state={r.state}
            sx={{
              fontWeight: 650,
              color: r.state === 'failed' ? 'error.main' : r.state === 'held' ? 'warning.main' : 'primary.main',
            }}
          >
            {words[r.state]}
          </Box>
        </Box>
        <Box sx={{ color: 'text.secondary' }}>
          To <b>{localTime(r.reaches, zone)}</b> on {r.host} as {r.instance}, supposing{' '}
          {r.loss === 'none' ? 'nothing is lost' : `${r.loss} is lost`} · begun by {r.createdBy}{' '}
          {localTime(r.createdAt, zone)}
        </Box>
        {r.message && r.state !== 'held' && (
          <Alert severity={r.state === 'failed' ? 'error' : 'info'} icon={false} variant="outlined" sx={{ my: 1 }}>
            {r.message}
            {r.decidedBy && ` (${r.decidedBy})`}
          </Alert>
        )}
        <StepBars run={r} />
      </Box>
      <Side label="Measured">
        {r.state === 'held' && (
          <Box sx={{ border: 2, borderColor: 'warning.main', p: 1.5, mb: 2 }}>
            <Box component="h2" sx={{ m: 0, fontSize: 15 }}>
              Held for a look
            </Box>
            <Box sx={{ my: 0.75 }}>
              {bad === 0
                ? `All ${m?.checks.length ?? 0} checks passed.`
                : `${bad} of ${m?.checks.length ?? 0} checks did not pass.`}{' '}
              Nobody is let in until you release it.
            </Box>
            {may ? (
              <Box sx={{ display: 'flex', gap: 1 }}>
                <Button
                  variant="contained"
                  color={bad ? 'warning' : 'primary'}
                  disabled={decide.isPending}
                  onClick={() => decide.mutate('release')}
                >
                  Release: let clients in
                </Button>
                <Button variant="outlined" disabled={decide.isPending} onClick={() => decide.mutate('throw-away')}>
                  Throw away
                </Button>
              </Box>
            ) : (
              'Who operates or administers decides.'
            )}
          </Box>
        )}
        {decide.error && (
          <Alert severity="error" variant="outlined" sx={{ mb: 1 }}>
            {decide.error.message}
          </Alert>
        )}
        <Box sx={{ display: 'flex', flexDirection: 'column', gap: 1.25, mb: 2 }}>
          <Figure
            word="planned"
            prefix="back in"
            seconds={r.plannedServiceSeconds}
            limit={r.rtoSeconds}
            note={`${r.plannedFrom === 'learned' ? 'learned from finished runs' : "from the engine's profile"}`}
          />
          <Figure
            word={m ? 'measured, without the hold' : 'measured'}
            prefix="back in"
            seconds={m?.serviceSeconds}
            limit={r.rtoSeconds}
            unknown="it is not ready yet"
          />
          <Figure
            word="data lost"
            seconds={m ? m.dataLostSeconds : r.plannedLostSeconds}
            limit={r.rpoSeconds}
            note={m ? 'measured against the instant wanted' : 'planned'}
          />
          {m && <Figure word="until ready and checked" seconds={m.secondsToReady} note="measured" />}
          {m?.holdSeconds !== null && m && <Figure word="held" seconds={m.holdSeconds} note="measured, shown apart" />}
          {m?.secondsToService !== null && m && (
            <Figure word="until service, hold included" seconds={m.secondsToService} note="measured" />
          )}
        </Box>
        {m && (
          <SideSection title="Checks">
            {m.checks.map((c) => (
              <Box key={c.name} sx={{ py: 0.4, borderTop: 1, borderColor: 'divider' }}>
                <b>{c.name}</b>{' '}
                <Box component="span" sx={{ color: c.passed ? 'primary.main' : 'error.main', fontWeight: 650 }}>
                  {c.passed ? 'passed' : 'did not pass'}
                </Box>
                <Box sx={{ fontSize: 12, color: 'text.secondary', overflowWrap: 'anywhere' }}>{c.detail}</Box>
              </Box>
            ))}
          </SideSection>
        )}
        {r.endedAt && (
          <Box sx={{ mt: 2 }} title={utc(r.endedAt)}>
            Ended {localTime(r.endedAt, zone)}.{' '}
            <Link to={withPremise('/evidence', search, { database: r.database })}>Its entry in the ledger</Link>
          </Box>
        )}
        {r.state === 'released' && may && (
          <Button color="error" sx={{ mt: 2 }} disabled={decide.isPending} onClick={() => decide.mutate('remove')}>
            Remove this instance
          </Button>
        )}
        {open && may && (
          <Button color="error" sx={{ mt: 2 }} disabled={decide.isPending} onClick={() => decide.mutate('cancel')}>
            Cancel and leave nothing behind
          </Button>
        )}
      </Side>
    </Worksheet>
  );
}
