import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useLocation, useNavigate, useParams } from 'react-router';
import { api, got } from '../../api/client';
import { useZone } from '../../app/places';
import { withPremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { Failure } from '../../shared/Failure';
import { localTime, utc } from '../../shared/format';
import { Side } from '../../shared/Side';
import { Worksheet } from '../../shared/Worksheet';
import { ChangeFigures } from '../changes/ChangeFigures';
import { DrillFigures } from '../drills/DrillFigures';
import { JointFigures } from '../drills/JointFigures';
import { drillKindWord } from '../drills/words';
import { NextByPeople } from '../drills/NextByPeople';
import { Tracks } from '../drills/Tracks';
import { Alone } from './Alone';
import { Decide } from './Decide';
import { RestoreFigures } from './RestoreFigures';
import { RunFacts } from './RunFacts';
import { MoveFigures } from '../moves/MoveFigures';
import { SecondFigures } from '../secondDatabase/SecondFigures';
import { StepBars } from './StepBars';
import { Took } from './Took';
import { runKindWord, stateColour, stateWord } from './words';

/** A run of any kind: planned and actual, what people are asked, what was measured, its log, and what followed. */
export default function RunPage() {
  const { id = '' } = useParams();
  const zone = useZone();
  const [may, mayApprove] = [useMay('operate'), useMay('approve')];
  const go = useNavigate();
  const queries = useQueryClient();
  const { search } = useLocation();
  const run = useQuery({
    queryKey: ['run', id],
    queryFn: () => got(api.GET('/api/runs/{id}', { params: { path: { id } } })),
    refetchInterval: (q) => (q.state.data?.run.ended ? false : 1500),
  });
  const params = { params: { path: { id } } };
  const again = { onSettled: () => queries.invalidateQueries({ queryKey: ['run', id] }) };
  const decide = useMutation({
    mutationFn: ({ approves, ...body }: { step: number; choice: string; why: string | null; approves: boolean }) =>
      approves
        ? got(api.POST('/api/runs/{id}/approve', { ...params, body }))
        : got(api.POST('/api/runs/{id}/decide', { ...params, body })),
    ...again,
  });
  const cancel = useMutation({ mutationFn: () => got(api.POST('/api/runs/{id}/cancel', params)), ...again });
  const remove = useMutation({
    mutationFn: () => got(api.POST('/api/runs/{id}/remove', params)),
    onSuccess: (r) => go(withPremise(`/runs/${r.id}`, search)),
  });
  if (run.error) return <Failure error={run.error} again={() => void run.refetch()} />;
  if (!run.data) return <Box sx={{ p: 3, color: 'text.secondary' }}>Opening…</Box>;
  const { run: r, steps, restore, drill, joint, change, move, second, cancellable } = run.data;
  // Nothing is turned back that was not begun.
  const begun = steps.some((s) => s.kind === 'part' && s.started !== null);
  const asked = steps
    .filter((s) => s.choices.length > 0)
    .map((s) => (begun ? s : { ...s, choices: s.choices.filter((c) => c !== 'turn-back') }));
  const pending = decide.isPending || cancel.isPending || remove.isPending;
  const error = decide.error ?? cancel.error ?? remove.error;
  const cancelWord = steps.length > 0 ? 'Cancel and leave nothing behind' : 'End it';
  return (
    <Worksheet side={340}>
      <Box sx={{ p: 2, minWidth: 0 }}>
        <Box sx={{ display: 'flex', alignItems: 'baseline', gap: 1.5, flexWrap: 'wrap' }}>
          <h1 style={{ fontSize: 20, margin: 0 }}>
            {joint?.kind === 'restoreTest' ? drillKindWord.restoreTest : (runKindWord[r.kind] ?? r.kind)} of{' '}
            {joint
              ? joint.of
              : (run.data.of ?? <Link to={withPremise(`/databases/${r.database}`, search)}>{r.databaseName}</Link>)}
          </h1>
          <Box
            role="status"
            data-testid="run-state"
            data-state={r.state}
            sx={{ fontWeight: 650, color: stateColour(r.state, 'primary.main') }}
          >
            {stateWord[r.state]}
          </Box>
        </Box>
        <Box sx={{ color: 'text.secondary' }}>
          {change && `${change.name} · `}
          {move && `From ${move.from} to ${move.to} · `}
          {second && restore && (
            <>
              <b>{second.id}</b> on {restore.host}, as of{' '}
              <b>
                {second.forecast && !restore.measured
                  ? 'when it has caught up'
                  : localTime(restore.measured?.reached ?? restore.planned.reaches, zone)}
              </b>
              {' · '}
            </>
          )}
          {restore && !second && (
            <>
              To <b>{localTime(restore.planned.reaches, zone)}</b> on {restore.host} as {restore.instance}, supposing{' '}
              {restore.loss === 'none' ? 'nothing is lost' : `${restore.loss} is lost`} ·{' '}
            </>
          )}
          {!restore && r.instance && `${r.instance} · `}
          {r.plan && (
            <>
              <Link to={withPremise(`/plans/${r.plan}`, search)}>{r.plan}</Link>, {r.task} · due{' '}
              <span title={utc(r.due)}>{localTime(r.due, zone)}</span> ·{' '}
            </>
          )}
          {r.askedBy &&
            (r.plan ? `asked for by ${r.askedBy} · ` : `begun by ${r.askedBy} ${localTime(r.due, zone)} · `)}
          <Link to={withPremise('/runs', search, { database: r.database })}>its other runs</Link>
        </Box>
        {r.note && (
          <Box sx={{ mt: 1, fontWeight: 600, color: stateColour(r.state, 'text.primary') }}>
            {r.note}
            {run.data.cancelledBy && r.state === 'cancelled' && ` (${run.data.cancelledBy})`}
          </Box>
        )}
        {r.oddity && <Box sx={{ mt: 1, fontWeight: 600, color: 'verdict.atRisk' }}>It is {r.oddity}.</Box>}
        {(drill || joint) && <NextByPeople view={run.data} />}
        {joint && <JointFigures view={run.data} />}
        {drill && <Tracks run={r} drill={drill} />}
        {steps.length > 0 && <StepBars run={run.data} />}
        <RunFacts view={run.data} />
      </Box>
      <Side label="Decide and measured">
        {asked.map((s) => (
          <Decide
            key={s.number}
            step={s}
            checks={restore?.measured?.checks ?? null}
            moreOpen={run.data.moreOpen}
            may={s.hold ? may : mayApprove}
            pending={pending}
            decide={(choice, why) => decide.mutate({ step: s.number, choice, why, approves: !s.hold })}
            alone={!s.hold && may ? <Alone run={id} step={s.number} database={r.database} /> : null}
          />
        ))}
        {error && <Failure error={error} />}
        {move ? (
          <MoveFigures move={move} />
        ) : change ? (
          <ChangeFigures change={change} />
        ) : second && restore ? (
          <SecondFigures second={second} restore={restore} steps={steps} />
        ) : restore ? (
          <RestoreFigures restore={restore} />
        ) : drill ? (
          <DrillFigures drill={drill} />
        ) : (
          <Took view={run.data} />
        )}
        {r.ended && (restore || drill || joint || change || move || r.instance) && (
          <Box sx={{ mt: 2 }} title={utc(r.ended)}>
            Ended {localTime(r.ended, zone)}.{' '}
            <Link to={withPremise('/evidence', search, { database: r.database })}>Its entry in the ledger</Link>
          </Box>
        )}
        {(restore?.standing || move?.standing) && may && (
          <Button color="error" sx={{ mt: 2 }} disabled={pending} onClick={() => remove.mutate()}>
            Remove this instance
          </Button>
        )}
        {cancellable && may && (
          <Button color="error" sx={{ mt: 2 }} disabled={pending} onClick={() => cancel.mutate()}>
            {cancelWord}
          </Button>
        )}
      </Side>
    </Worksheet>
  );
}
