import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { Link, useLocation } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useAddress } from '../../app/address';
import { useGo, withPremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { ChoiceField } from '../../shared/ChoiceField';
import { count, duration } from '../../shared/format';
import { Side } from '../../shared/Side';
import { SideSection } from '../../shared/SideSection';
import { Worksheet } from '../../shared/Worksheet';
import { SetDate } from './SetDate';
import { lossWord } from './words';

type Of = 'group' | 'service' | 'site';

const ofWord: Record<Of, string> = { group: 'A group', service: 'A service', site: 'A whole site' };
const kinds = {
  switchover: 'Switchover: both sides alive, nothing lost',
  forced: 'Taken for lost',
  automatic: 'Automatic: engines are stopped, nobody helps',
  restoreTest: 'Restore test: sets restored aside, checked',
};
/** A site is lost whole, or its databases are restored as if it were. */
const ofSite = { forced: kinds.forced, restoreTest: kinds.restoreTest };
const endings = { home: 'Roles change back', keep: 'Roles stay changed', part: 'Replication ends' };

/** A drill of many: which databases take part, how each comes back, and what is expected to be lost and to take how long. */
export default function JointDrillPage() {
  const [params, put] = useAddress();
  const { search } = useLocation();
  const may = useMay('operate');
  const go = useGo();
  const choices = useQuery({ queryKey: ['drills', 'joint'], queryFn: () => got(api.GET('/api/drills/joint')) });
  const of = (params.get('of') ?? 'service') as Of;
  const those = (choices.data ?? []).filter((c) => c.of === of);
  const id = those.find((c) => c.id === params.get('id'))?.id ?? those[0]?.id ?? '';
  const asked = params.get('kind') ?? 'switchover';
  const kind = of === 'site' && !(asked in ofSite) ? 'forced' : asked;
  const restores = kind === 'restoreTest';
  const ending = restores ? 'keep' : (params.get('ending') ?? 'home');
  const loss = restores ? (params.get('as') ?? (of === 'site' ? 'site' : 'host')) : null;
  const body = { of, id, kind, ending, loss };
  const sheet = useQuery({
    queryKey: ['drills', 'joint', body],
    enabled: id !== '',
    placeholderData: keepPreviousData,
    retry: false,
    refetchInterval: 30_000,
    queryFn: () => got(api.POST('/api/drills/joint/worksheet', { body })),
  });
  const begin = useMutation({
    mutationFn: () => got(api.POST('/api/drills/joint', { body: { ...body, dated: params.get('dated') } })),
    onSuccess: (run) => go(`/runs/${run.id}`),
  });
  const s = sheet.data;
  return (
    <Worksheet side={340}>
      <Box sx={{ p: 2, display: 'flex', flexDirection: 'column', gap: 1.5, minWidth: 0 }}>
        <h1 style={{ fontSize: 20, margin: 0 }}>A drill of several databases</h1>
        <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5 }}>
          <ChoiceField label="Of" value={of} of={ofWord} width={150} onChange={(v) => put({ of: v, id: '' }, true)} />
          <ChoiceField
            label="Which"
            value={id}
            of={Object.fromEntries(
              those.map((c) => [
                c.id,
                `${c.name} (${count(c.databases)} ${c.databases === 1 ? 'database' : 'databases'})`,
              ]),
            )}
            width={270}
            onChange={(v) => put({ id: v }, true)}
          />
          <ChoiceField
            label="Kind"
            value={kind}
            of={of === 'site' ? ofSite : kinds}
            width={320}
            onChange={(v) => put({ kind: v }, true)}
          />
          {restores ? (
            <ChoiceField
              label="As after"
              value={loss!}
              of={lossWord}
              width={190}
              onChange={(v) => put({ as: v }, true)}
            />
          ) : (
            <ChoiceField
              label="At the end"
              value={ending}
              of={endings}
              width={180}
              onChange={(v) => put({ ending: v }, true)}
            />
          )}
        </Box>
        <Box sx={{ display: 'flex', gap: 1.5, alignItems: 'center', flexWrap: 'wrap' }}>
          <Button
            variant="contained"
            disabled={!may || !s || s.refused !== null || begin.isPending}
            onClick={() => begin.mutate()}
          >
            Begin the drill
          </Button>
          {!may && <Box sx={{ color: 'text.secondary' }}>Who operates begins it.</Box>}
          {may && s && !params.has('dated') && <SetDate drill={{ of, id, replica: null, kind, ending }} />}
        </Box>
        {(begin.error ?? sheet.error) && (
          <Alert severity="error" variant="outlined">
            {(begin.error ?? sheet.error)!.message}
          </Alert>
        )}
        {s && <Members rows={s.members} search={search} />}
      </Box>
      <Side label="What comes of it">
        <Box component="h2" sx={{ m: 0, mb: 1, fontSize: 15 }}>
          What comes of it
        </Box>
        {s && <Comes sheet={s} restores={restores} />}
      </Side>
    </Worksheet>
  );
}

function Comes({ sheet: s, restores }: { sheet: Schemas['JointWorksheetView']; restores: boolean }) {
  const there = s.members.filter((m) => m.whyNot === null);
  const roles = there.filter((m) => m.by !== null).length;
  const late = there.filter((m) => m.rtoSeconds !== null && m.serviceSeconds! > m.rtoSeconds);
  const loses = there.filter((m) => m.rpoSeconds !== null && m.lostSeconds! > m.rpoSeconds);
  return (
    <>
      {s.refused !== null && (
        <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
          It cannot be begun: {s.refused}.
        </Alert>
      )}
      <Box sx={{ fontSize: 17, fontWeight: 620, mb: 0.5 }}>
        {restores
          ? `${count(there.length)} ${there.length === 1 ? 'is' : 'are'} restored aside, from sets`
          : `${count(roles)} ${roles === 1 ? 'changes' : 'change'} roles${there.length > roles ? `, ${count(there.length - roles)} ${there.length - roles === 1 ? 'is' : 'are'} restored from sets` : ''}`}
      </Box>
      <Box sx={{ mb: 2 }}>All of it in {duration(s.seconds)}, people not counted.</Box>
      <Box sx={{ mb: 2, color: late.length + loses.length > 0 ? 'verdict.breached' : 'text.secondary' }}>
        {loses.length > 0
          ? `${count(loses.length)} would lose more than their RPO`
          : 'None would lose more than its RPO'}
        ;{' '}
        {late.length > 0
          ? `${count(late.length)} would take longer than their RTO`
          : 'none would take longer than its RTO'}
        .
      </Box>
      {s.approval && (
        <Alert severity="warning" variant="outlined" sx={{ mb: 1.5 }}>
          A second person must agree, once for all, before anything is taken for lost.
        </Alert>
      )}
      <SideSection level="h3" title="How it goes">
        <Box sx={{ color: 'text.secondary' }}>
          {restores
            ? 'Each database has a run of its own: restored beside its source on a recovery host, opened, checked, timed, and cleaned up. As many at once on a host as it has slots; what one waits for the others counts. Nothing that serves clients is touched.'
            : 'Each database has a run of its own, with its markers, its measures and its proof. They begin together, wait for each other before writes stop and before clients are sent over, and people are asked once for all. Until then it can be called off.'}
        </Box>
      </SideSection>
    </>
  );
}

const columns = ['Database', 'comes back by', 'could lose / RPO', 'back in / RTO'];

function Members({ rows, search }: { rows: Schemas['JointMemberView'][]; search: string }) {
  const cell = { borderTop: 1, borderColor: 'divider', py: 0.5, overflowWrap: 'anywhere', minWidth: 0 } as const;
  const against = (seconds: number | null, limit: number | null) => (
    <Box sx={{ ...cell, color: limit !== null && seconds! > limit ? 'verdict.breached' : 'text.primary' }}>
      {duration(seconds!)}
      <Box component="span" sx={{ color: 'text.secondary' }}>
        {' '}
        / {limit === null ? 'none agreed' : duration(limit)}
      </Box>
    </Box>
  );
  return (
    <Box
      component="section"
      aria-label="Databases"
      sx={{
        display: 'grid',
        gridTemplateColumns: {
          xs: 'repeat(2, minmax(0, 1fr))',
          sm: 'minmax(120px, 1fr) minmax(150px, 1.3fr) minmax(110px, 0.9fr) minmax(110px, 0.9fr)',
        },
        columnGap: 2,
      }}
    >
      {columns.map((c) => (
        <Box key={c} sx={{ fontSize: 12, color: 'text.secondary' }}>
          {c}
        </Box>
      ))}
      {rows.map((m) => (
        <Box key={m.database} sx={{ display: 'contents' }}>
          <Box sx={cell}>
            <Link to={withPremise(`/databases/${m.database}`, search)}>{m.name}</Link>
          </Box>
          {m.whyNot !== null ? (
            <Box sx={{ ...cell, gridColumn: { sm: '2 / -1' }, color: 'text.secondary' }}>left out: {m.whyNot}</Box>
          ) : (
            <>
              <Box sx={cell}>
                {m.by ?? 'sets, restored aside'}, on {m.host}
                {m.failed.map((f) => (
                  <Box key={f} sx={{ color: 'verdict.breached', fontSize: 12 }}>
                    stands in the way: {f}
                  </Box>
                ))}
              </Box>
              {against(m.lostSeconds, m.rpoSeconds)}
              {against(m.serviceSeconds, m.rtoSeconds)}
            </>
          )}
        </Box>
      ))}
    </Box>
  );
}
