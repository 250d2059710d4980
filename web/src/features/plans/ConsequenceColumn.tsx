import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useMutation } from '@tanstack/react-query';
import { api, got, type Schemas } from '../../api/client';
import { Failure } from '../../shared/Failure';
import { bytes, duration, localDay, localTime } from '../../shared/format';
import { Side } from '../../shared/Side';
import { SideSection } from '../../shared/SideSection';
import { clashWord, lossWord } from '../../shared/words';
import { Differences } from './Differences';
import { type Consequences, type PlanDraft } from './draft';
import { FindingList } from './FindingList';
import { WeekStrip } from './WeekStrip';

/** What the plan comes to: recalculated while one decides. */
export function ConsequenceColumn({
  consequences: c,
  error,
  busy,
  plan,
  zone,
}: {
  consequences: Consequences | undefined;
  error: Error | null;
  busy: boolean;
  plan: PlanDraft;
  zone: string;
}) {
  // That a store will be full is said where its space is, with the day.
  const soon = c?.clashes.filter((x) => x.kind !== 'storeFull') ?? [];
  return (
    <Side label="Consequence">
      <Box sx={{ display: 'flex', alignItems: 'baseline', gap: 1 }}>
        <h2 style={{ margin: 0, fontSize: 15 }}>What it comes to</h2>
        <Box sx={{ color: 'text.secondary', fontSize: 12 }} data-testid="consequence-state">
          {busy ? 'simulating…' : c ? `a week of ${c.members} simulated in ${Math.round(c.milliseconds)} ms` : ''}
        </Box>
      </Box>
      {error && <Failure error={error} />}
      {c && c.members === 0 && (
        <Box sx={{ my: 1, color: 'text.secondary' }}>
          It catches no database yet. Choose a service, a tag or names on the left, and its figures appear here.
        </Box>
      )}
      {c && c.members > 0 && (
        <>
          {c.evaluated < c.members && (
            <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
              Figures of {c.evaluated} of {c.members}, from the smallest to the largest; all take part in the
              simulation.
            </Box>
          )}
          {c.week && <WeekStrip week={c.week} zone={zone} />}
          <Box
            component="table"
            aria-label="Designed figures"
            sx={{
              width: '100%',
              borderCollapse: 'collapse',
              mt: 1,
              mb: 1.75,
              '& td, & th': {
                textAlign: 'left',
                py: 0.5,
                borderBottom: 1,
                borderColor: 'divider',
                verticalAlign: 'top',
                fontWeight: 400,
              },
            }}
          >
            <thead>
              <Box component="tr" sx={{ color: 'text.secondary', fontSize: 12 }}>
                <th>suppose</th>
                <th>could lose</th>
                <th>back in</th>
              </Box>
            </thead>
            <tbody>
              {c.losses.map((l) => (
                <tr key={l.loss}>
                  <td>{lossWord[l.loss]}</td>
                  <Box
                    component="td"
                    data-testid={`designed-${l.loss}`}
                    title={l.worstDatabase ?? undefined}
                    sx={{ color: l.keepsRpo < l.judged ? 'verdict.breached' : 'text.primary' }}
                  >
                    <b>{l.worstExposureSeconds === null ? 'all of it' : duration(l.worstExposureSeconds)}</b>
                    <Kept kept={l.keepsRpo} of={l.judged} what="RPO" />
                  </Box>
                  <Box
                    component="td"
                    title={l.slowestDatabase ?? undefined}
                    sx={{ color: l.keepsRto < l.judged ? 'verdict.breached' : 'text.primary' }}
                  >
                    <b>{l.longestRestoreSeconds === null ? 'no way back' : duration(l.longestRestoreSeconds)}</b>
                    <Kept kept={l.keepsRto} of={l.judged} what="RTO" />
                  </Box>
                </tr>
              ))}
            </tbody>
          </Box>
          <Chances plan={plan} />
          {c.stores.length > 0 && (
            <SideSection level="h3" title="Space and traffic">
              {c.stores.map((s) => (
                <Box key={s.store} sx={{ display: 'flex', justifyContent: 'space-between', gap: 1 }}>
                  <b>{s.store}</b>
                  <span>
                    {bytes(s.bytesPerDay)} a day, {bytes(s.bytesKept)} kept
                  </span>
                  {s.fullOn && <Box sx={{ color: 'verdict.breached' }}>full on {localDay(s.fullOn, zone)}</Box>}
                </Box>
              ))}
            </SideSection>
          )}
          {soon.length > 0 && (
            <SideSection level="h3" title="Clashes in the coming week">
              {soon.slice(0, 8).map((x, i) => (
                <Box key={i} sx={{ mb: 0.5 }}>
                  <b>{x.task ?? x.place}</b> {clashWord(x.kind)}
                  {x.count > 1 && `, ${x.count} times`}
                  {x.worstSeconds > 0 && `, by up to ${duration(x.worstSeconds)}`}
                  <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
                    first {localTime(x.at, zone, false)} on {x.place}
                  </Box>
                </Box>
              ))}
            </SideSection>
          )}
          <SideSection level="h3" title="Findings">
            <FindingList findings={c.findings} />
          </SideSection>
        </>
      )}
      {c && c.differences.length > 0 && (
        <SideSection level="h3" title="Different from the saved version">
          <Differences all={c.differences} />
        </SideSection>
      )}
    </Side>
  );
}

function Kept({ kept, of, what }: { kept: number; of: number; what: string }) {
  return of === 0 ? null : (
    <Box sx={{ fontSize: 11.5, color: kept < of ? 'verdict.breached' : 'text.secondary' }}>
      {kept < of ? `${of - kept} of ${of} over ${what}` : `${what} kept`}
    </Box>
  );
}

/** The chance of keeping the RPO over a month; drawn when asked, because it takes a second or two. */
function Chances({ plan }: { plan: PlanDraft }) {
  const draw = useMutation({
    mutationFn: () => got(api.POST('/api/chances', { body: plan as unknown as Record<string, never> })),
  });
  const d: Schemas['ChancesView'] | undefined = draw.data;
  return (
    <SideSection level="h3" title="Chance of keeping the RPO for a month">
      {!d && (
        <Button size="small" onClick={() => draw.mutate()} disabled={draw.isPending}>
          {draw.isPending ? 'Drawing weeks…' : 'Draw 40 weeks with the failures seen so far'}
        </Button>
      )}
      {draw.error && <Failure error={draw.error} />}
      {d && (
        <>
          {d.chances
            .filter((c) => c.loss === 'none' || c.loss === 'site')
            .map((c) => (
              <Box key={c.database + c.loss} sx={{ mb: 0.25 }}>
                <b>{(c.keepsRpoForMonth * 100).toFixed(c.keepsRpoForMonth > 0.995 ? 1 : 0)} %</b> {c.database},{' '}
                {lossWord[c.loss]}
                <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
                  19 weeks of 20: could lose at most{' '}
                  {c.exposure95Seconds === null ? 'all of it' : duration(c.exposure95Seconds)}, back in{' '}
                  {c.restore95Seconds === null ? 'no way' : duration(c.restore95Seconds)}
                </Box>
              </Box>
            ))}
          <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
            From {d.weeks} drawn weeks; {(d.failureShare * 100).toFixed(1)} % of attempts fail, durations spread by{' '}
            {Math.round(d.spread * 100)} %.
          </Box>
        </>
      )}
    </SideSection>
  );
}
