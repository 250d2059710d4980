import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got, type Schemas } from '../../api/client';
import { useAddress } from '../../app/address';
import { useGo } from '../../app/premise';
import { useMay } from '../../app/session';
import { ChoiceField } from '../../shared/ChoiceField';
import { DatabaseField } from '../../shared/DatabaseField';
import { Figure } from '../../shared/Figure';
import { bytes } from '../../shared/format';
import { Side } from '../../shared/Side';
import { SideSection } from '../../shared/SideSection';
import { Worksheet } from '../../shared/Worksheet';
import { modeWord, stateWord } from '../replicas/words';
import { RunbookInTime } from './RunbookInTime';
import { SetDate } from './SetDate';

const kinds = {
  switchover: 'Switchover: both sides alive, nothing lost',
  forced: 'Forced failover: the source is taken for lost',
  automatic: 'Automatic failover: its engine is stopped, nobody helps',
};
const endings = { home: 'Roles change back', keep: 'Roles stay changed', part: 'Replication ends' };
const losses = { host: 'its host', array: 'its array', site: 'its site' };

/** A drill that is planned: what on the left with its runbook, what comes of it on the right while one chooses. */
export default function NewDrillPage() {
  const [params, put] = useAddress();
  const may = useMay('operate');
  const go = useGo();
  const database = params.get('database');
  const kind = params.get('kind') ?? 'switchover';
  const ending = params.get('ending') ?? 'home';
  const taken = params.get('taken') ?? 'host';
  const loss = taken in losses ? taken : 'host';
  const byHand = params.get('byHand') !== 'no';
  const replicas = useQuery({
    queryKey: ['replicas', 'of', database],
    enabled: database !== null,
    queryFn: () => got(api.GET('/api/replicas', { params: { query: { database: database! } } })),
  });
  const choices = (replicas.data?.rows ?? []).filter((r) => r.state !== 'ended');
  const named = params.get('replica');
  const replica = choices.find((r) => r.id === named)?.id ?? choices[0]?.id ?? '';
  const [inSpite, setInSpite] = useState('');
  const dated = params.get('dated');
  const body = { replica, kind, ending, byHand, host: null, loss: kind === 'forced' ? loss : null };
  const sheet = useQuery({
    queryKey: ['drills', 'worksheet', body],
    enabled: replica !== '',
    placeholderData: keepPreviousData,
    retry: false,
    refetchInterval: 15_000,
    queryFn: () => got(api.POST('/api/drills/worksheet', { body })),
  });
  const begin = useMutation({
    mutationFn: () => got(api.POST('/api/drills', { body: { ...body, inSpite: inSpite.trim() || null, dated } })),
    onSuccess: (run) => go(`/runs/${run.id}`),
  });
  const s = replica === '' ? undefined : sheet.data;
  const stops = s?.prechecks.filter((p) => p.outcome === 'failed') ?? [];
  // What cannot be done, or is being done, nobody may go on in spite of.
  const final = stops.some((p) => p.final);
  const text = new URLSearchParams({
    replica,
    kind,
    ending,
    byHand: String(byHand),
    ...(kind === 'forced' ? { loss } : {}),
  });
  return (
    <Worksheet side={400}>
      <Box sx={{ p: 2, display: 'flex', flexDirection: 'column', gap: 1.5, minWidth: 0 }}>
        <h1 style={{ fontSize: 20, margin: 0 }}>A drill</h1>
        <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5 }}>
          <DatabaseField id={database} onPick={(id) => put({ database: id, replica: '' }, true)} />
          <ChoiceField
            label="To"
            value={replica}
            of={Object.fromEntries(choices.map((r) => [r.id, `${r.id} (${modeWord[r.mode]}, ${stateWord[r.state]})`]))}
            width={320}
            onChange={(v) => put({ replica: v }, true)}
          />
          <ChoiceField label="Kind" value={kind} of={kinds} width={340} onChange={(v) => put({ kind: v }, true)} />
          {kind === 'forced' && (
            <ChoiceField
              label="Taken for lost"
              value={loss}
              of={losses}
              width={150}
              onChange={(v) => put({ taken: v }, true)}
            />
          )}
          <ChoiceField
            label="At the end"
            value={ending}
            of={endings}
            width={180}
            onChange={(v) => put({ ending: v }, true)}
          />
          <ChoiceField
            label="People"
            value={byHand ? 'yes' : 'no'}
            of={{ yes: 'confirm before writes stop and before clients go over', no: 'confirm nothing' }}
            width={340}
            onChange={(v) => put({ byHand: v }, true)}
          />
        </Box>
        {database !== null && replicas.data && choices.length === 0 && (
          <Alert severity="info" variant="outlined">
            It has no replica that roles could change to.
          </Alert>
        )}
        <Box sx={{ display: 'flex', gap: 1.5, alignItems: 'center', flexWrap: 'wrap' }}>
          <Button
            variant="contained"
            disabled={
              !may ||
              !s ||
              s.canAct !== null ||
              (stops.length > 0 && (final || inSpite.trim() === '')) ||
              begin.isPending
            }
            onClick={() => begin.mutate()}
          >
            Begin the drill
          </Button>
          {s && s.steps.length > 0 && (
            <>
              <Button component="a" href={`/api/drills/runbook?${text.toString()}`} download>
                Take the runbook along
              </Button>
              <Button component="a" href={`/api/drills/runbook?${text.toString()}&form=script`} download>
                As a script
              </Button>
            </>
          )}
          <Box sx={{ color: 'text.secondary' }}>{s?.canAct ?? (may ? '' : 'Who operates begins it.')}</Box>
          {may && s && dated === null && <SetDate drill={{ of: 'database', id: null, replica, kind, ending }} />}
        </Box>
        {stops.length > 0 && !final && (
          <TextField
            label="Go on in spite of what stands in the way, because"
            helperText="A second person must agree; the reason is kept."
            value={inSpite}
            onChange={(e) => setInSpite(e.target.value)}
            sx={{ maxWidth: 560 }}
          />
        )}
        {begin.error && (
          <Alert severity="error" variant="outlined">
            {begin.error.message}
          </Alert>
        )}
        {s && s.steps.length > 0 && <RunbookInTime steps={s.steps} seconds={s.seconds} />}
      </Box>
      <Side label="What comes of it">
        <Box component="h2" sx={{ m: 0, mb: 1, fontSize: 15 }}>
          What comes of it
        </Box>
        {sheet.error && (
          <Alert severity="warning" variant="outlined" sx={{ mb: 1 }}>
            {sheet.error.message}
          </Alert>
        )}
        {!s && !sheet.error && <Box sx={{ color: 'text.secondary' }}>Choose a database that has a replica.</Box>}
        {s && <Comes sheet={s} />}
      </Side>
    </Worksheet>
  );
}

const outcomeWord = { passed: 'passed', warned: 'look at this', failed: 'stands in the way' };
const outcomeColour = { passed: 'primary.main', warned: 'verdict.atRisk', failed: 'verdict.breached' };

function Comes({ sheet: s }: { sheet: Schemas['DrillWorksheetView'] }) {
  return (
    <>
      {s.refused.length > 0 && (
        <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
          It cannot be done: {s.refused.join('; ')}.
        </Alert>
      )}
      {s.refused.length === 0 && (
        <Box sx={{ display: 'flex', flexDirection: 'column', gap: 1.25, mb: 2 }}>
          <Figure
            word="could lose"
            seconds={s.lostSeconds}
            limit={s.rpoSeconds}
            note={
              s.lostSeconds === 0
                ? 'nothing: all is received before roles change'
                : s.lostBytes === null
                  ? undefined
                  : `${bytes(s.lostBytes)} of log`
            }
          />
          <Figure word="nobody can write for" seconds={s.writeStopSeconds} note="planned, people not counted" />
          <Figure word="clients are back" prefix="in" seconds={s.serviceSeconds} limit={s.rtoSeconds} />
        </Box>
      )}
      {s.approval && (
        <Alert severity="warning" variant="outlined" sx={{ mb: 1.5 }}>
          A second person must agree before the source is taken for lost.
        </Alert>
      )}
      <Box sx={{ mb: 2 }}>
        From <b>{s.from}</b> to <b>{s.to}</b>
        {s.follower !== null && `; ${s.from} follows then, as ${s.follower}`}.
      </Box>
      <SideSection level="h3" title="Looked at before">
        {s.prechecks.map((p) => (
          <Box key={`${p.name} ${p.detail}`} sx={{ py: 0.4, borderTop: 1, borderColor: 'divider' }}>
            <b>{p.name}</b>{' '}
            <Box component="span" sx={{ color: outcomeColour[p.outcome], fontWeight: 620 }}>
              {outcomeWord[p.outcome]}
            </Box>
            <Box sx={{ fontSize: 12, color: 'text.secondary', overflowWrap: 'anywhere' }}>{p.detail}</Box>
          </Box>
        ))}
      </SideSection>
    </>
  );
}
