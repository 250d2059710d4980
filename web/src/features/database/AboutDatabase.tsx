import Box from '@mui/material/Box';
import { useQuery } from '@tanstack/react-query';
import { Link, useLocation } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { withPremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { duration, localTime, utc } from '../../shared/format';
import { Said } from '../../shared/Said';
import { Side } from '../../shared/Side';
import { SideSection } from '../../shared/SideSection';
import { VerdictMark } from '../../shared/VerdictMark';
import { lossWord } from '../../shared/words';
import { AskForRun } from '../runs/AskForRun';

/** What stands beside its cover: what was agreed, its plan, findings, proofs, marks, and what happened lately. */
export function AboutDatabase({
  database: d,
  plan,
}: {
  database: Schemas['DatabaseView'];
  plan: Schemas['DatabasePlanView'] | undefined;
}) {
  const mayOperate = useMay('operate');
  const findings = useQuery({
    queryKey: ['findings', d.id],
    queryFn: () => got(api.GET('/api/findings', { params: { query: { database: d.id } } })),
  });
  const [zone, o] = [d.timeZone, d.objective];
  return (
    <Side label="About this database">
      <SideSection title="Agreed losses">
        {o ? (
          <>
            <Box sx={{ color: 'text.secondary', mb: 0.5 }}>{o.name}</Box>
            {d.losses.map((l) => (
              <Loss key={l.kind} loss={l} />
            ))}
          </>
        ) : (
          'No objective was agreed for it.'
        )}
      </SideSection>
      {plan && <PlanSection plan={plan} zone={zone} database={mayOperate ? d.id : null} />}
      {(findings.data?.rows.length ?? 0) > 0 && (
        <SideSection title="Findings">
          {findings.data!.rows.map((f, i) => (
            <Box key={i} sx={{ mb: 1 }}>
              <b>
                <Said text={f.what} zone={zone} />.
              </b>{' '}
              <Said text={f.why} zone={zone} />. <Box sx={{ color: 'primary.main' }}>{f.remedy}.</Box>
            </Box>
          ))}
        </SideSection>
      )}
      <SideSection title="Proofs">
        {d.proofs.length === 0 && 'None yet. Restore it aside, look, and throw it away: that is a proof.'}
        {d.proofs.slice(0, 6).map((p) => (
          <Proof key={p.ledgerNumber} proof={p} zone={zone} />
        ))}
      </SideSection>
      <SideSection title="Marks">
        {d.marks.length === 0 && 'No incident noted, no marker written.'}
        {d.marks.slice(0, 8).map((m, i) => (
          <Box key={i} sx={{ mb: 0.5 }}>
            <b>{m.title}</b>
            <Box sx={{ color: 'text.secondary' }} title={utc(m.at)}>
              {m.kind}, {localTime(m.at, zone)}
            </Box>
          </Box>
        ))}
      </SideSection>
      {d.happenings.length > 0 && (
        <SideSection title="What happened lately">
          {d.happenings.slice(0, 6).map((h, i) => (
            <Box key={i} sx={{ mb: 0.5 }}>
              {h.text} <Box sx={{ color: 'text.secondary' }}>{localTime(h.at, zone)}</Box>
            </Box>
          ))}
        </SideSection>
      )}
    </Side>
  );
}

/** Its plan, what runs next, and designed beside observed. */
function PlanSection({
  plan: p,
  zone,
  database,
}: {
  plan: Schemas['DatabasePlanView'];
  zone: string;
  database: string | null;
}) {
  const { search } = useLocation();
  const differs = p.figures.filter((f) => f.whyTheyDiffer.length > 0);
  return (
    <SideSection title="Plan">
      {p.plans.length === 0 && <Box sx={{ color: 'verdict.breached' }}>No plan covers it.</Box>}
      {p.plans.map((x) => (
        <Box key={x.id}>
          <Link to={withPremise(`/plans/${x.id}`, search)}>{x.name}</Link>
        </Box>
      ))}
      {p.next
        .filter((n, i) => i < 4 || n.askedBy)
        .map((n) => (
          <Box key={n.task + n.due} sx={{ color: 'text.secondary' }}>
            {n.run ? <Link to={withPremise(`/runs/${n.run}`, search)}>{n.task}</Link> : n.task},{' '}
            {localTime(n.due, zone, false)}
            {n.askedBy && `, asked for by ${n.askedBy}`}
          </Box>
        ))}
      {database && p.plans.length > 0 && (
        <Box
          component="details"
          sx={{ mt: 0.5, '& summary': { cursor: 'pointer', color: 'primary.main' }, '& [role=group]': { mt: 1 } }}
        >
          <summary>Run a task of it, now or at a time</summary>
          <AskForRun
            tasks={p.plans.flatMap((x) => x.tasks.map((t) => ({ plan: x.id, task: t.id, kind: t.kind })))}
            databases={[database]}
            zone={zone}
          />
        </Box>
      )}
      {database && (
        <Box sx={{ mt: 0.5 }}>
          <Link to={withPremise(`/databases/${database}/copy`, search)}>Take a copy now, whatever plans say</Link>
        </Box>
      )}
      {p.figures.length > 0 && differs.length === 0 && (
        <Box sx={{ mt: 0.5 }}>Designed and observed agree within a tenth for every loss.</Box>
      )}
      {differs.slice(0, 2).map((f) => (
        <Box key={f.kind} sx={{ mt: 0.5 }}>
          <b>{lossWord[f.kind]}</b>: designed{' '}
          {f.designedExposureSeconds === null ? 'all of it' : duration(f.designedExposureSeconds)}, observed{' '}
          {f.observedExposureSeconds === null ? 'all of it' : duration(f.observedExposureSeconds)}
          <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
            because <Said text={f.whyTheyDiffer.join('; ')} zone={zone} />
          </Box>
        </Box>
      ))}
    </SideSection>
  );
}

function Loss({ loss }: { loss: Schemas['LossView'] }) {
  return (
    <Box sx={{ py: 0.5, borderTop: 1, borderColor: 'divider' }}>
      <Box sx={{ display: 'flex', justifyContent: 'space-between' }}>
        <span>{lossWord[loss.kind] ?? loss.loss}</span>
        <VerdictMark verdict={loss.verdict} why={loss.reasons.join('; ')} />
      </Box>
      <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
        {loss.couldLoseSeconds === null ? 'all of it would be lost' : `could lose ${duration(loss.couldLoseSeconds)}`}
        {loss.backInSeconds !== null && ` · back in ${duration(loss.backInSeconds)}`}
        {loss.takenOverBy && ` by taking over: ${loss.takenOverBy}`}
        {loss.proof && (loss.proof.whyNot ? '' : ` · shown by ${loss.proof.tookOver ? 'taking over' : 'a restore'}`)}
      </Box>
    </Box>
  );
}

function Proof({ proof, zone }: { proof: Schemas['ProofView']; zone: string }) {
  const { search } = useLocation();
  return (
    <Box sx={{ mb: 0.75 }}>
      <b>{proof.passed ? 'Passed' : 'Did not pass'}</b>, {localTime(proof.at, zone, false)} on {proof.host}
      <Box sx={{ color: 'text.secondary' }}>
        {proof.tookOver ? 'a replica took over' : 'sets restored'},{' '}
        {lossWord[proof.loss.split(':')[0] ?? ''] ?? proof.loss}: lost {duration(proof.lostSeconds)}, back in{' '}
        {duration(proof.serviceSeconds)} ·{' '}
        {proof.runId ? (
          <Link to={withPremise(`/runs/${proof.runId}`, search)}>the run</Link>
        ) : (
          <Link to={withPremise('/evidence', search)}>entry {proof.ledgerNumber}</Link>
        )}
      </Box>
    </Box>
  );
}
