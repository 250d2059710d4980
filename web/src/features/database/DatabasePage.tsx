import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useCallback, useMemo, useState } from 'react';
import { Link, useLocation, useParams, useSearchParams } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useGo, usePremise, withPremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { CoverStrip } from '../../shared/CoverStrip';
import { Failure } from '../../shared/Failure';
import { Figure } from '../../shared/Figure';
import { bytes, duration, localTime, utc } from '../../shared/format';
import { RangeButtons } from '../../shared/RangeButtons';
import { Said } from '../../shared/Said';
import { useCover, useInstantKeys } from '../../shared/useCover';
import { VerdictMark } from '../../shared/VerdictMark';
import { AskForRun } from '../taskruns/AskForRun';
import { IncidentForm } from './IncidentForm';
import { lossWord } from '../../shared/words';
import { SetTable } from './SetTable';
import { WaysTable } from './WaysTable';

/** One database: what could be lost, how soon it is back, how one knows; its cover, sets, proofs and findings. */
export default function DatabasePage() {
  const { id = '' } = useParams();
  const premise = usePremise();
  const go = useGo();
  const mayOperate = useMay('operate');
  const [params, setParams] = useSearchParams();
  const [noting, setNoting] = useState(false);
  const database = useQuery({
    queryKey: ['database', id, 'view', premise.query],
    placeholderData: keepPreviousData,
    queryFn: () => got(api.GET('/api/databases/{id}', { params: { path: { id }, query: premise.query } })),
  });
  const findings = useQuery({
    queryKey: ['findings', id],
    queryFn: () => got(api.GET('/api/findings', { params: { query: { database: id } } })),
  });
  const plan = useQuery({
    queryKey: ['database', id, 'plan', premise.query.loss],
    placeholderData: keepPreviousData,
    queryFn: () =>
      got(api.GET('/api/databases/{id}/plan', { params: { path: { id }, query: { loss: premise.query.loss } } })),
  });
  const { cover, zoom, show, days } = useCover(id);
  const chosenText = params.get('instant');
  const chosen = chosenText ? Date.parse(chosenText) : null;
  const set = params.get('set');
  const choose = useCallback(
    (at: number) =>
      setParams(
        (before) => new URLSearchParams([...[...before].filter(([k]) => k !== 'instant'), ['instant', utc(at)]]),
      ),
    [setParams],
  );
  const chooseSet = useCallback(
    (s: string | null) =>
      setParams(
        (before) => new URLSearchParams([...[...before].filter(([k]) => k !== 'set'), ...(s ? [['set', s]] : [])]),
      ),
    [setParams],
  );
  useInstantKeys(cover.data, chosen, choose);
  const chain = useQuery({
    queryKey: ['database', id, 'chain', set, premise.query],
    enabled: set !== null,
    queryFn: () =>
      got(api.GET('/api/databases/{id}/sets/{set}', { params: { path: { id, set: set! }, query: premise.query } })),
  });
  const lit = useMemo(() => new Set(chain.data ? [chain.data.set.id, ...chain.data.needs] : []), [chain.data]);
  const d = database.data;
  if (database.error) return <Failure error={database.error} again={() => void database.refetch()} />;
  if (!d) return <Box sx={{ p: 3, color: 'text.secondary' }}>Opening…</Box>;
  const zone = d.timeZone;
  const designed = plan.data?.figures.find((f) => f.kind === d.supposed.kind);
  const proof = d.proofs[0];
  const o = d.objective;
  return (
    <Box sx={{ display: 'grid', gridTemplateColumns: 'minmax(0, 1fr) 320px', minHeight: '100%' }}>
      <Box sx={{ p: 2, minWidth: 0 }}>
        <Box sx={{ display: 'flex', alignItems: 'baseline', gap: 1.5, flexWrap: 'wrap' }}>
          <h1 style={{ fontSize: 22, margin: 0 }}>{d.name}</h1>
          <VerdictMark verdict={d.verdict} />
          <Box sx={{ color: 'text.secondary', order: 9, width: '100%', mt: -1 }}>
            {d.service} · {d.engine} {d.version} · {d.host}, {d.site}
            {d.array && ` on ${d.array}`} · {bytes(d.sizeBytes)}
          </Box>
          <Box sx={{ flex: 1 }} />
          {mayOperate && <Button onClick={() => setNoting(true)}>Note an incident</Button>}
          <Button variant="contained" onClick={() => go(`/recover/${id}`, chosen ? { target: utc(chosen) } : {})}>
            Recover…
          </Button>
        </Box>
        {d.reasons.length > 0 && (
          <Box
            component="ul"
            sx={{ my: 0.5, pl: 2.25, color: d.verdict === 'unproven' ? 'text.secondary' : `verdict.${d.verdict}` }}
          >
            {d.reasons.slice(0, 2).map((r) => (
              <li key={r}>
                <Said text={r} zone={zone} />
              </li>
            ))}
            {d.reasons.length > 2 && <li>and {d.reasons.length - 2} more, beside the losses on the right</li>}
          </Box>
        )}
        <Box
          sx={{
            display: 'grid',
            gridTemplateColumns: 'repeat(5, minmax(0, 1fr))',
            gap: 2,
            my: 1.5,
            py: 1,
            borderTop: 1,
            borderBottom: 1,
            borderColor: 'divider',
          }}
        >
          <Figure
            word="designed, worst of a week"
            prefix="could lose"
            seconds={designed?.designedExposureSeconds}
            limit={o?.rpoSeconds}
            unknown={
              plan.data?.plans.length === 0
                ? 'no plan covers it'
                : designed
                  ? 'the plan leaves nothing'
                  : 'it is being worked out'
            }
            note={
              designed?.designedRestoreSeconds != null
                ? `back in ${duration(designed.designedRestoreSeconds)} at worst`
                : undefined
            }
          />
          <Figure
            word="observed, now"
            prefix="could lose"
            seconds={d.supposed.couldLoseSeconds}
            limit={o?.rpoSeconds}
            unknown="there is nothing to restore from"
          />
          <Figure
            word="observed, worst of 7 days"
            prefix="could lose"
            seconds={d.supposed.worstSeconds}
            limit={o?.rpoSeconds}
            unknown="there was nothing to restore from"
          />
          <Figure
            word={`observed, ${d.supposed.host ? `to ${d.supposed.host}, ${d.supposed.learned ? 'learned' : 'by profile'}` : 'restore'}`}
            prefix="back in"
            seconds={d.supposed.backInSeconds}
            limit={o?.rtoSeconds}
            unknown={d.supposed.noPath}
          />
          <Figure
            word={
              proof
                ? `proven, ${duration((Date.parse(d.at) - Date.parse(proof.at)) / 1000)} ago${d.proofWhyNot ? ', void' : ''}`
                : 'proven'
            }
            prefix="back in"
            seconds={proof?.serviceSeconds}
            limit={o?.rtoSeconds}
            unknown="it was never restored"
            note={
              proof ? `lost ${duration(proof.lostSeconds)}${d.proofWhyNot ? ` · ${d.proofWhyNot}` : ''}` : undefined
            }
          />
        </Box>
        <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 0.5 }}>
          <h2 style={{ margin: 0, fontSize: 15 }}>Cover</h2>
          <RangeButtons days={days} onShow={show} />
          <Legend />
          <Box sx={{ flex: 1 }} />
          {chosen !== null && (
            <Box sx={{ fontSize: 12.5 }} title={utc(chosen)}>
              Chosen: <b>{localTime(chosen, zone)}</b>
            </Box>
          )}
        </Box>
        {cover.error && <Failure error={cover.error} />}
        {cover.data && (
          <CoverStrip
            cover={cover.data}
            zone={zone}
            chosen={chosen}
            onChoose={choose}
            onZoom={zoom}
            lit={lit}
            onSet={chooseSet}
          />
        )}
        {cover.data && cover.data.gaps.length > 0 && (
          <Box component="details" sx={{ mt: 0.5, '& summary': { cursor: 'pointer', color: 'text.secondary' } }}>
            <summary>
              {cover.data.gaps.length} {cover.data.gaps.length === 1 ? 'stretch' : 'stretches'} that cannot be restored,
              and why
            </summary>
            <Box component="ul" sx={{ pl: 2.25, my: 0.5 }}>
              {cover.data.gaps.slice(-12).map((g) => (
                <li key={g.from}>
                  {localTime(g.from, zone)} to {localTime(g.to, zone)} (
                  {duration((Date.parse(g.to) - Date.parse(g.from)) / 1000)}):{' '}
                  <Said text={g.reasons.join('; ')} zone={zone} />
                </li>
              ))}
            </Box>
          </Box>
        )}
        <WaysTable database={id} />
        <SetTable database={id} zone={zone} total={d.sets} chosen={set} onChoose={chooseSet} chain={chain.data} />
      </Box>
      <Box
        component="aside"
        aria-label="About this database"
        tabIndex={0}
        sx={{ borderLeft: 1, borderColor: 'divider', bgcolor: 'background.paper', p: 2, overflow: 'auto' }}
      >
        <Section title="Agreed losses">
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
        </Section>
        {plan.data && <PlanSection plan={plan.data} zone={zone} database={mayOperate ? id : null} />}
        {(findings.data?.length ?? 0) > 0 && (
          <Section title="Findings">
            {findings.data!.map((f, i) => (
              <Box key={i} sx={{ mb: 1 }}>
                <b>
                  <Said text={f.what} zone={zone} />.
                </b>{' '}
                <Said text={f.why} zone={zone} />. <Box sx={{ color: 'primary.main' }}>{f.remedy}.</Box>
              </Box>
            ))}
          </Section>
        )}
        <Section title="Proofs">
          {d.proofs.length === 0 && 'None yet. Restore it aside, look, and throw it away: that is a proof.'}
          {d.proofs.slice(0, 6).map((p) => (
            <Proof key={p.ledgerNumber} proof={p} zone={zone} />
          ))}
        </Section>
        <Section title="Marks">
          {d.marks.length === 0 && 'No incident noted, no marker written.'}
          {d.marks.slice(0, 8).map((m, i) => (
            <Box key={i} sx={{ mb: 0.5 }}>
              <b>{m.title}</b>
              <Box sx={{ color: 'text.secondary' }} title={utc(m.at)}>
                {m.kind}, {localTime(m.at, zone)}
              </Box>
            </Box>
          ))}
        </Section>
        {d.happenings.length > 0 && (
          <Section title="What happened lately">
            {d.happenings.slice(0, 6).map((h, i) => (
              <Box key={i} sx={{ mb: 0.5 }}>
                {h.text} <Box sx={{ color: 'text.secondary' }}>{localTime(h.at, zone)}</Box>
              </Box>
            ))}
          </Section>
        )}
      </Box>
      <IncidentForm database={id} zone={zone} open={noting} at={chosen} onClose={() => setNoting(false)} />
    </Box>
  );
}

function Section({ title, children }: { title: string; children: React.ReactNode }) {
  return (
    <Box component="section" sx={{ mb: 2.5 }}>
      <Box component="h2" sx={{ m: 0, mb: 0.75, fontSize: 14 }}>
        {title}
      </Box>
      {children}
    </Box>
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
    <Section title="Plan">
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
            {n.run ? <Link to={withPremise(`/task-runs/${n.run}`, search)}>{n.task}</Link> : n.task},{' '}
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
    </Section>
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
        lost {duration(proof.lostSeconds)}, back in {duration(proof.serviceSeconds)} ·{' '}
        {proof.runId ? (
          <Link to={withPremise(`/runs/${proof.runId}`, search)}>the run</Link>
        ) : (
          <Link to={withPremise('/evidence', search)}>entry {proof.ledgerNumber}</Link>
        )}
      </Box>
    </Box>
  );
}

/** What the heights and cuts of tiles mean. */
function Legend() {
  const tile = (word: string, shape: React.ReactNode) => (
    <Box component="span" sx={{ display: 'inline-flex', alignItems: 'flex-end', gap: 0.5 }}>
      <svg width={12} height={16} aria-hidden>
        {shape}
      </svg>
      {word}
    </Box>
  );
  const c = 'var(--mui-palette-primary-main)';
  return (
    <Box sx={{ display: 'flex', gap: 1.25, fontSize: 11.5, color: 'text.secondary' }}>
      {tile('full', <rect x={2} y={0} width={7} height={16} fill={c} />)}
      {tile('differential', <rect x={2} y={5} width={7} height={11} fill={c} />)}
      {tile('incremental', <rect x={2} y={8} width={7} height={8} fill={c} />)}
      {tile('log', <rect x={1} y={11} width={10} height={5} fill={c} opacity={0.6} />)}
      {tile('snapshot', <path d="M2 16V6l5-6h3v16z" fill={c} />)}
      {tile('export', <rect x={2.5} y={1} width={7} height={14} fill="none" stroke={c} strokeWidth={1.5} />)}
    </Box>
  );
}
