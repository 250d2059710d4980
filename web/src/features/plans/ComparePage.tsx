import Box from '@mui/material/Box';
import FormControlLabel from '@mui/material/FormControlLabel';
import Switch from '@mui/material/Switch';
import { useQueries, useQuery } from '@tanstack/react-query';
import { Link, useLocation } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useAddress } from '../../app/address';
import { withPremise } from '../../app/premise';
import { Failure } from '../../shared/Failure';
import { bytes, duration } from '../../shared/format';
import { Differences } from './Differences';
import { lossWord } from '../../shared/words';
import { keepWords, kindWord, type Consequences, type PlanDraft, type TaskDraft } from './draft';

/** "offices" or "offices@3": a plan, and which version of it. */
export function readSide(text: string): { plan: string; version: number | undefined } {
  const [plan = '', version] = text.split('@');
  return { plan, version: version ? Number(version) : undefined };
}

/** Two plans, or two versions of one, side by side: what they do, and what each comes to for the same databases. */
export default function ComparePage() {
  const { search } = useLocation();
  const [params, put] = useAddress();
  const [left, right] = [readSide(params.get('left') ?? ''), readSide(params.get('right') ?? '')];
  const own = params.get('own') !== null;
  const both = useQuery({
    queryKey: ['plans', 'compare', left, right],
    queryFn: () =>
      got(
        api.GET('/api/plan-comparison', {
          params: {
            query: { left: left.plan, leftVersion: left.version, right: right.plan, rightVersion: right.version },
          },
        }),
      ),
  });
  const sides = both.data ? ([both.data.left, both.data.right] as const) : null;
  const plans = sides?.map((s) => s.plan as unknown as PlanDraft);

  // The right one is asked about as if it were the left one, so that both are judged on the same databases.
  const asked = plans?.map((p, i) => (i === 0 || own ? p : { ...p, id: plans[0]!.id, members: plans[0]!.members }));
  const figures = useQueries({
    queries: (asked ?? []).map((p) => ({
      queryKey: ['consequences', p],
      queryFn: () => got(api.POST('/api/consequences', { body: p as unknown as Record<string, never> })),
    })),
  });
  if (both.error) return <Failure error={both.error} />;
  if (!sides || !plans) return <Box sx={{ p: 3, color: 'text.secondary' }}>Opening…</Box>;
  const kinds = [...new Set(plans.flatMap((p) => p.tasks.map((t) => t.kind)))];
  const [a, b] = [figures[0]?.data, figures[1]?.data];
  return (
    <Box sx={{ p: 2 }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 2, mb: 1 }}>
        <h1 style={{ fontSize: 20, margin: 0 }}>Two plans side by side</h1>
        <Box sx={{ flex: 1 }} />
        <FormControlLabel
          control={<Switch size="small" checked={!own} onChange={(_, same) => put({ own: same ? null : '' })} />}
          label={`Both for the databases of ${plans[0]!.name}`}
        />
      </Box>
      {figures.map((f, i) => f.error && <Failure key={i} error={f.error} />)}
      <Box
        component="table"
        aria-label="Two plans"
        sx={{
          width: '100%',
          borderCollapse: 'collapse',
          tableLayout: 'fixed',
          '& td, & th': {
            textAlign: 'left',
            verticalAlign: 'top',
            py: 0.75,
            pr: 2,
            borderBottom: 1,
            borderColor: 'divider',
            fontWeight: 400,
          },
          '& th': { color: 'text.secondary', width: 170 },
        }}
      >
        <thead>
          <tr>
            <th />
            {plans.map((p, i) => (
              <td key={i}>
                <Link to={withPremise(`/plans/${p.id}`, search)} style={{ fontWeight: 650 }}>
                  {p.name}
                </Link>
                , version {sides[i]!.version}
                <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
                  {figures[i]?.data ? `for ${figures[i].data.members} databases` : 'simulating…'}
                </Box>
              </td>
            ))}
          </tr>
        </thead>
        <tbody>
          {(a?.losses ?? []).map((l) => (
            <tr key={l.loss}>
              <th>{lossWord[l.loss]}</th>
              {[a, b].map((c, i) => (
                <td key={i}>
                  <Figures of={c} loss={l.loss} against={i === 1 ? a : undefined} />
                </td>
              ))}
            </tr>
          ))}
          <tr>
            <th>stores</th>
            {[a, b].map((c, i) => (
              <td key={i}>
                {c?.stores.map((s) => (
                  <Box key={s.store}>
                    <b>{s.store}</b> {bytes(s.bytesPerDay)} a day, {bytes(s.bytesKept)} kept
                  </Box>
                ))}
              </td>
            ))}
          </tr>
          <tr>
            <th>findings</th>
            {[a, b].map((c, i) => (
              <td key={i}>
                {c && c.findings.length === 0 && 'none'}
                {c?.findings.slice(0, 4).map((f) => (
                  <Box key={f.code + f.what}>{f.what}</Box>
                ))}
                {c && c.findings.length > 4 && `and ${c.findings.length - 4} more`}
              </td>
            ))}
          </tr>
          {kinds.map((kind) => (
            <tr key={kind}>
              <th>{kindWord[kind]}</th>
              {plans.map((p, i) => (
                <td key={i}>
                  {p.tasks.some((t) => t.kind === kind)
                    ? p.tasks
                        .filter((t) => t.kind === kind)
                        .map((t) => <TaskWords key={t.id} task={t} words={sides[i]!.words} />)
                    : 'not done'}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </Box>
      <Box component="section" sx={{ mt: 2 }}>
        <h2 style={{ fontSize: 15, margin: '0 0 4px' }}>Member by member</h2>
        {both.data!.differences.length === 0 ? (
          'They are the same.'
        ) : (
          <Differences all={both.data!.differences} most={60} />
        )}
      </Box>
    </Box>
  );
}

function TaskWords({ task: t, words }: { task: TaskDraft; words: Schemas['ComparedPlan']['words'] }) {
  const when = words[t.id] ?? t.after.map((a) => `after ${a.task}`).join(', ');
  return (
    <Box>
      {when}
      <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
        {t.store && `to ${[t.store, ...t.copyTo].join(', ')}, kept ${keepWords(t.keep)}`}
      </Box>
    </Box>
  );
}

function Figures({
  of: c,
  loss,
  against,
}: {
  of: Consequences | undefined;
  loss: string;
  against?: Consequences | undefined;
}) {
  const l = c?.losses.find((x) => x.loss === loss);
  const other = against?.losses.find((x) => x.loss === loss);
  if (!c) return <>…</>;
  if (!l) return <>not agreed</>;
  const worse =
    other !== undefined && (l.worstExposureSeconds ?? Infinity) > (other.worstExposureSeconds ?? Infinity) * 1.1;
  return (
    <>
      could lose{' '}
      <Box component="b" sx={{ color: l.keepsRpo < l.judged ? 'verdict.breached' : 'text.primary' }}>
        {l.worstExposureSeconds === null ? 'all of it' : duration(l.worstExposureSeconds)}
      </Box>
      {worse && ' (more)'}, back in{' '}
      <Box component="b" sx={{ color: l.keepsRto < l.judged ? 'verdict.breached' : 'text.primary' }}>
        {l.longestRestoreSeconds === null ? 'no way' : duration(l.longestRestoreSeconds)}
      </Box>
      <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
        {l.judged > 0 && `RPO kept by ${l.keepsRpo} of ${l.judged}, RTO by ${l.keepsRto}`}
      </Box>
    </>
  );
}
