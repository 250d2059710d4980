import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useCallback, useMemo, useState } from 'react';
import { Link, useLocation, useParams } from 'react-router';
import { api, got } from '../../api/client';
import { useAddress } from '../../app/address';
import { useGo, usePremise, withPremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { CoverLegend } from '../../shared/CoverLegend';
import { CoverStrip } from '../../shared/CoverStrip';
import { Failure } from '../../shared/Failure';
import { Figure } from '../../shared/Figure';
import { bytes, duration, localTime, utc } from '../../shared/format';
import { RangeButtons } from '../../shared/RangeButtons';
import { Said } from '../../shared/Said';
import { useCover, useInstantKeys } from '../../shared/useCover';
import { VerdictMark } from '../../shared/VerdictMark';
import { Worksheet } from '../../shared/Worksheet';
import { AboutDatabase } from './AboutDatabase';
import { IncidentForm } from './IncidentForm';
import { SetTable } from './SetTable';
import { WaysTable } from './WaysTable';

/** One database: what could be lost, how soon it is back, how one knows; its cover, sets, proofs and findings. */
export default function DatabasePage() {
  const { id = '' } = useParams();
  const premise = usePremise();
  const go = useGo();
  const { search } = useLocation();
  const mayOperate = useMay('operate');
  const [params, put] = useAddress();
  const [noting, setNoting] = useState(false);
  const database = useQuery({
    queryKey: ['database', id, 'view', premise.query],
    placeholderData: keepPreviousData,
    queryFn: () => got(api.GET('/api/databases/{id}', { params: { path: { id }, query: premise.query } })),
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
  const choose = useCallback((at: number) => put({ instant: utc(at) }), [put]);
  const chooseSet = useCallback((s: string | null) => put({ set: s }), [put]);
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
  // What counts for the loss that is supposed; without an objective, the newest.
  const newest = d.proofs[0];
  const proof = d.supposed.proof ?? (newest ? { ...newest, whyNot: null } : null);
  const o = d.objective;
  return (
    <Worksheet side={320}>
      <Box sx={{ p: 2, minWidth: 0 }}>
        <Box sx={{ display: 'flex', alignItems: 'baseline', gap: 1.5, flexWrap: 'wrap' }}>
          <h1 style={{ fontSize: 22, margin: 0 }}>{d.name}</h1>
          <VerdictMark verdict={d.verdict} />
          <Box sx={{ color: 'text.secondary', order: 9, width: '100%', mt: -1 }}>
            {d.service && `${d.service} · `}
            {d.engine} {d.version} · {d.host}, {d.site}
            {d.array && ` on ${d.array}`} · {bytes(d.sizeBytes)}
            {d.holds.length > 0 && (
              <>
                {' '}
                · holds the {d.holds.join(', ')} of its host: restored before{' '}
                {d.needing.length > 3 ? `${d.needing.length} others` : d.needing.map((n) => n.name).join(', ')}
              </>
            )}
            {d.before.length > 0 && (
              <>
                {' '}
                · needs{' '}
                {d.before.map((n, i) => (
                  <span key={n.id}>
                    {i > 0 && ', '}
                    <Link to={withPremise(`/databases/${n.id}`, search)}>{n.name}</Link>
                  </span>
                ))}{' '}
                first
              </>
            )}
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
            columnGap: 2,
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
            word={
              d.supposed.takenOverBy
                ? `observed, ${d.supposed.takenOverBy} takes over`
                : `observed, ${d.supposed.host ? `to ${d.supposed.host}, ${d.supposed.learned ? 'learned' : 'profile'}` : 'restore'}`
            }
            prefix="back in"
            seconds={d.supposed.backInSeconds}
            limit={o?.rtoSeconds}
            unknown={d.supposed.noPath}
          />
          <Figure
            word={
              proof?.at
                ? `proven ${proof.tookOver ? 'by taking over' : 'by restore'}, ${duration((Date.parse(d.at) - Date.parse(proof.at)) / 1000)} ago${proof.whyNot ? ', void' : ''}`
                : 'proven'
            }
            prefix="back in"
            seconds={proof?.serviceSeconds}
            limit={o?.rtoSeconds}
            unknown={proof?.whyNot ?? 'it was never restored'}
            note={
              proof?.at ? `lost ${duration(proof.lostSeconds)}${proof.whyNot ? ` · ${proof.whyNot}` : ''}` : undefined
            }
          />
        </Box>
        <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 0.5 }}>
          <h2 style={{ margin: 0, fontSize: 15 }}>Cover</h2>
          <RangeButtons days={days} onShow={show} />
          <CoverLegend />
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
      <AboutDatabase database={d} plan={plan.data} />
      <IncidentForm database={id} zone={zone} open={noting} at={chosen} onClose={() => setNoting(false)} />
    </Worksheet>
  );
}
