import Box from '@mui/material/Box';
import { useQuery } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { Link, useLocation, useParams } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { usePremise, withPremise } from '../../app/premise';
import { Failure } from '../../shared/Failure';
import { Figure } from '../../shared/Figure';
import { bytes, duration, localTime } from '../../shared/format';
import { Side } from '../../shared/Side';
import { SideSection } from '../../shared/SideSection';
import { lossWord } from '../../shared/words';
import { Worksheet } from '../../shared/Worksheet';
import { Actions } from './Actions';
import { LagChart } from './LagChart';
import { Positions } from './Positions';
import { modeWord, stateColour, StateMark, stateWord } from './words';

const readable: Record<Schemas['ReplicaReadable'], string> = {
  always: 'can be read',
  never: 'cannot be read',
  betweenApplies: 'can be read between two applies',
};
const takesOver: Record<Schemas['TakesOver'], string> = {
  byHand: 'takes over when a person says so',
  never: 'is only read from',
  byItself: 'takes over by itself',
};
const mendedBy: Record<Schemas['By'], string> = {
  log: 'By log backups',
  set: 'By a set left unopened, then log',
  anew: 'Anew, by a copy',
};

/** One replica: what it lacks, what it is worth for each loss, how long it may stay away, and how it is mended. */
export default function ReplicaPage() {
  const { id = '' } = useParams();
  const premise = usePremise();
  const { search } = useLocation();
  const replica = useQuery({
    queryKey: ['replicas', id, premise.query.at],
    placeholderData: (before) => before,
    refetchInterval: premise.at ? false : 5000,
    queryFn: () => got(api.GET('/api/replicas/{id}', { params: { path: { id }, query: { at: premise.query.at } } })),
  });
  if (replica.error) return <Failure error={replica.error} again={() => void replica.refetch()} />;
  const v = replica.data;
  if (!v) return <Box sx={{ p: 3, color: 'text.secondary' }}>Opening…</Box>;
  const r = v.row;
  const counting = v.worth.filter((w) => w.whyNot === null);
  return (
    <Worksheet side={300}>
      <Box sx={{ p: 2, display: 'flex', flexDirection: 'column', gap: 2, minWidth: 0 }}>
        <Box>
          <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, flexWrap: 'wrap' }}>
            <h1 style={{ fontSize: 20, margin: 0 }}>{r.id}</h1>
            <Box
              sx={{ display: 'flex', gap: 0.75, alignItems: 'center', color: stateColour(r.state), fontWeight: 650 }}
            >
              <StateMark state={r.state} size={18} /> {stateWord[r.state]}
            </Box>
          </Box>
          <Box sx={{ color: 'text.secondary' }}>
            of <Link to={withPremise(`/databases/${r.database}`, search)}>{r.databaseName}</Link>, {modeWord[r.mode]}
            {r.delaySeconds > 0 && `, held back ${duration(r.delaySeconds)}`}; {readable[v.readable]};{' '}
            {takesOver[v.takesOver]}
          </Box>
          {r.whyBroken && (
            <Box sx={{ mt: 1, color: 'verdict.breached' }}>
              <b>It cannot go on:</b> {r.whyBroken}.
            </Box>
          )}
          {r.heldByPerson && (
            <Box sx={{ mt: 1, color: 'verdict.atRisk' }}>
              <b>Held by {r.heldByPerson}.</b>
            </Box>
          )}
          {r.heldUpBy && r.heldUpBy !== r.whyBroken && !r.heldByPerson && (
            <Box sx={{ mt: 1, color: 'verdict.breached' }}>
              <b>Held up:</b> {r.heldUpBy}.
            </Box>
          )}
          {r.frozenSince && !r.whyBroken && (
            <Box sx={{ mt: 1, color: 'verdict.breached' }}>
              <b>It has received nothing since {localTime(r.frozenSince, v.timeZone)}</b>
              {r.toleratedOutageSeconds !== null &&
                r.toleratedOutageSeconds > 0 &&
                `; in ${duration(r.toleratedOutageSeconds)} what it needs next is no longer kept`}
              .
            </Box>
          )}
        </Box>
        <Box sx={{ display: 'grid', gridTemplateColumns: 'repeat(auto-fit, minmax(132px, 1fr))', gap: 2 }}>
          <Figure
            word="could lose now"
            seconds={r.receivedLagSeconds}
            limit={r.rpoSeconds}
            unknown="nothing was seen of it"
          />
          <Figure
            word="worst of 7 days"
            seconds={r.worstLossSeconds}
            limit={r.rpoSeconds}
            unknown="nothing was seen of it"
          />
          <Figure
            word="by design"
            seconds={r.byDesignSeconds}
            limit={r.rpoSeconds}
            unknown="more is written than its link carries, or the log rate is not stated"
          />
          <Figure
            word="may stay away"
            seconds={r.toleratedOutageSeconds}
            note={r.keptSeconds === null ? undefined : `of ${duration(r.keptSeconds)} of log kept for it`}
            unknown="no limit is stated"
          />
          <Figure
            word="receives in step in"
            seconds={r.catchUpSeconds}
            note={v.backlogBytes === null ? undefined : `${bytes(v.backlogBytes)} to come`}
            unknown="it does not within 30 days"
          />
          <Figure
            word="has applied all in"
            seconds={r.readCatchUpSeconds}
            note={r.pendingBytes === null ? undefined : `${bytes(r.pendingBytes)} to apply`}
            unknown="it does not within 30 days"
          />
        </Box>
        <Actions view={v} />
        <Sites view={v} />
        {!premise.at && r.state !== 'planned' && r.state !== 'ended' && <Positions row={r} />}
        <section aria-label="Lag over seven days">
          <h2 style={{ fontSize: 14, margin: '0 0 4px' }}>Lag, 7 days</h2>
          <LagChart lag={v.lag} from={v.lagFrom} to={v.at} rpo={r.rpoSeconds} zone={v.timeZone} />
          <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
            Dark: not received yet. Pale: received, not applied. Hatched: nothing received.{' '}
            {r.rpoSeconds !== null && `Dashed: the RPO of ${duration(r.rpoSeconds)}.`}
          </Box>
        </section>
        {v.mending.length > 0 && (
          <section aria-label="How it is mended">
            <h2 style={{ fontSize: 14, margin: '0 0 4px' }}>How it is mended</h2>
            {v.mending.map((m, i) => (
              <Said
                key={m.by}
                word={
                  m.by === 'log' && m.sets === 0 && m.seconds !== null
                    ? 'By the log its source still keeps'
                    : mendedBy[m.by]
                }
              >
                {m.seconds === null ? (
                  <Box component="span" sx={{ color: 'text.secondary' }}>
                    not possible: {m.whyNot}
                  </Box>
                ) : (
                  <>
                    <b>{duration(m.seconds)}</b>
                    {m.sets > 0 && `, ${m.sets} sets`}
                    {i === 0 && ', the fastest'}
                  </>
                )}
              </Said>
            ))}
          </section>
        )}
      </Box>
      <Side label="About this replica">
        <SideSection title="What it is worth">
          <Box sx={{ mb: 1, color: 'text.secondary' }}>
            {counting.length === 0
              ? 'It is no way back from any loss now.'
              : `It is a way back from ${counting.length} of ${v.worth.length} losses.`}
          </Box>
          {v.worth.map((w) => (
            <Said key={w.kind} word={lossWord[w.kind] ?? w.kind}>
              {w.whyNot === null ? (
                <>
                  lose <b>{duration(w.lostSeconds)}</b>, back in <b>{duration(w.serviceSeconds)}</b>
                  {w.byItself && ', by itself'}
                </>
              ) : (
                <Box component="span" sx={{ color: 'text.secondary' }}>
                  nothing: {w.whyNot}
                </Box>
              )}
            </Said>
          ))}
        </SideSection>
        {v.voters && (
          <SideSection title={`Voters of ${v.voters.group}`}>
            <Box sx={{ mb: 1 }}>{v.voters.hosts.join(', ')}</Box>
            {v.voters.after.map((a) => (
              <Said key={a.loss} word={`${a.loss} lost`}>
                {a.alive} left,{' '}
                {a.majority ? (
                  'a majority'
                ) : (
                  <b style={{ color: 'var(--mui-palette-verdict-breached)' }}>no majority</b>
                )}
              </Said>
            ))}
          </SideSection>
        )}
        <SideSection title="By design">
          <Said word="Read there">
            {r.readByDesignSeconds === null
              ? 'never keeps up, or not known'
              : `${duration(r.readByDesignSeconds)} old at most`}
          </Said>
          <Said word="A commit waits">
            {v.waitMs === null ? 'there is no link' : v.waitMs === 0 ? 'no longer for it' : `${v.waitMs} ms at least`}
          </Said>
          <Said word="Seeding it anew">
            {v.seedSeconds === null
              ? 'does not end'
              : `${duration(v.seedSeconds)}, ${v.seedByBackup ? 'from backups' : 'by a copy'}`}
          </Said>
          <Said word="When it is cut off">
            {v.whenCut === 'stop' ? 'nothing may be written' : 'the primary goes on'}
          </Said>
        </SideSection>
        <SideSection title="Room for log">
          <Said word="At the replica">
            {v.logRoomBytes === null
              ? 'not stated'
              : `${bytes(v.logRoomBytes)}${r.roomSeconds === null ? '' : `, full in ${duration(r.roomSeconds)} if it does not apply`}`}
          </Said>
          <Said word="At the primary">
            {v.primaryLogRoomBytes === null
              ? 'not stated'
              : `${bytes(v.primaryLogRoomBytes)}; a full one stops its writes`}
          </Said>
        </SideSection>
      </Side>
    </Worksheet>
  );
}

function Said({ word, children }: { word: string; children: ReactNode }) {
  return (
    <Box sx={{ display: 'grid', gridTemplateColumns: '118px minmax(0, 1fr)', gap: 1, py: 0.25, fontSize: 13 }}>
      <Box sx={{ color: 'text.secondary' }}>{word}</Box>
      <Box>{children}</Box>
    </Box>
  );
}

/** Primary and replica in their sites, and the link between them, as wide as it is against what must go over it. */
function Sites({ view: v }: { view: Schemas['ReplicaView'] }) {
  const here = v.sourceSite === v.row.site;
  const need = v.busiestLogBytesPerSecond;
  const used = need === null || v.linkBytesPerSecond === null ? null : need / v.linkBytesPerSecond;
  const place = (word: string, name: string, site: string) => (
    <Box sx={{ border: 1, borderColor: 'divider', bgcolor: 'background.paper', p: 1.25, minWidth: 0 }}>
      <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
        {word}, {site}
      </Box>
      <Box sx={{ fontWeight: 650, overflow: 'hidden', textOverflow: 'ellipsis' }}>{name}</Box>
    </Box>
  );
  return (
    <Box
      component="section"
      aria-label="Where it lies"
      sx={{
        display: 'grid',
        gridTemplateColumns: 'minmax(0, 1fr) minmax(190px, 1.2fr) minmax(0, 1fr)',
        alignItems: 'center',
      }}
    >
      {place(v.row.fedBy ? 'fed by' : 'primary', v.row.fedBy ?? v.primaryHost, v.sourceSite)}
      <Box sx={{ px: 1, textAlign: 'center', fontSize: 12 }}>
        <Box>{v.logBytesPerSecond === null ? 'log rate not stated' : `${bytes(v.logBytesPerSecond)}/s of log now`}</Box>
        <svg width="100%" height={14} aria-hidden>
          <rect x="0" y="3" width="100%" height="8" fill="var(--mui-palette-divider)" />
          {used !== null && (
            <rect
              x="0"
              y="3"
              width={`${Math.min(100, used * 100)}%`}
              height="8"
              fill={`var(--mui-palette-${used > 1 ? 'verdict-breached' : 'primary-main'})`}
            />
          )}
        </svg>
        <Box sx={{ color: used !== null && used > 1 ? 'verdict.breached' : 'text.secondary' }}>
          {here
            ? 'in one site'
            : v.linkBytesPerSecond === null
              ? 'no link between the two sites'
              : `${bytes(v.linkBytesPerSecond)}/s${need === null ? '' : `, ${Math.round((used ?? 0) * 100)} % in the busiest hour`}${v.roundTripMs === null ? '' : ` · ${v.roundTripMs} ms`}`}
        </Box>
      </Box>
      {place('replica', v.row.host ?? `array ${v.row.array}`, v.row.site)}
    </Box>
  );
}
