import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { useDeferredValue, useState, type ReactNode } from 'react';
import { api, got, type Schemas } from '../../api/client';
import { usePlaces } from '../../app/places';
import { useGo } from '../../app/premise';
import { useMay } from '../../app/session';
import { duration } from '../../shared/format';
import { Found } from '../../shared/Found';
import { Side } from '../../shared/Side';
import { SideSection } from '../../shared/SideSection';
import { lossWord } from '../../shared/words';
import { Worksheet } from '../../shared/Worksheet';

export interface Draft {
  id: string;
  engine: string;
  host: string;
  objective: string;
  sizeGb: string;
  logKb: string;
  group: string;
  replica: string;
  mode: 'sync' | 'async' | 'burst' | 'bothActive';
  takesOver: Schemas['TakesOver'];
  plan: string;
}

/** What is asked for, as it would stand in the fleet file. */
export function requestOf(d: Draft) {
  const number = (text: string, factor: number) => (text.trim() === '' ? null : Math.round(Number(text) * factor));
  return {
    database: {
      id: d.id.trim(),
      name: d.id.trim(),
      engine: d.engine,
      host: d.host,
      ...(d.replica ? { recoveryHosts: [d.replica] } : {}),
      ...(d.objective ? { objective: d.objective } : {}),
      sizeBytes: number(d.sizeGb, 1e9) ?? 0,
      logBytesPerSecond: number(d.logKb, 1e3),
      detectSeconds: 60,
      decideSeconds: 300,
    },
    group: d.group || null,
    replicas: d.replica
      ? [
          {
            id: `${d.id.trim()}-${d.replica}`,
            host: d.replica,
            mode: d.mode,
            takesOver: d.takesOver,
            promoteSeconds: 40,
            keepLogSeconds: 86_400,
          },
        ]
      : [],
    plan: d.plan || null,
  };
}

/** A database that is made replicated from birth: the choices on the left, what comes of them on the right. */
export default function NewDatabasePage() {
  const places = usePlaces().data;
  const plans = useQuery({ queryKey: ['plans'], queryFn: () => got(api.GET('/api/plans')) });
  const may = useMay('administer');
  const go = useGo();
  const [draft, setDraft] = useState<Draft>({
    id: '',
    engine: '',
    host: '',
    objective: '',
    sizeGb: '10',
    logKb: '50',
    group: '',
    replica: '',
    mode: 'sync',
    takesOver: 'byHand',
    plan: '',
  });
  const set = (key: keyof Draft, value: string) => setDraft((d) => ({ ...d, [key]: value }));
  const ready = draft.id.trim() !== '' && draft.engine !== '' && draft.host !== '';
  const asked = useDeferredValue(JSON.stringify(requestOf(draft)));
  const body = (text: string) => JSON.parse(text) as unknown as Schemas['NewDatabaseRequest'];
  const sheet = useQuery({
    queryKey: ['databases', 'worksheet', asked],
    enabled: ready,
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () => got(api.POST('/api/databases/worksheet', { body: body(asked) })),
  });
  const begin = useMutation({
    mutationFn: () => got(api.POST('/api/databases', { body: body(JSON.stringify(requestOf(draft))) })),
    onSuccess: (run) => go(`/runs/${run.id}`),
  });
  const of = (kind: string): [string, string][] =>
    (places?.things ?? []).filter((t) => t.kind === kind).map((t) => [t.id, t.name]);
  const field = (key: keyof Draft, label: string, help?: string) => (
    <TextField
      label={label}
      value={draft[key]}
      onChange={(e) => set(key, e.target.value)}
      helperText={help}
      sx={{ width: 220 }}
    />
  );
  const choice = (key: keyof Draft, label: string, among: [string, string][], help?: string) => (
    <TextField
      select
      label={label}
      value={draft[key]}
      onChange={(e) => set(key, e.target.value)}
      helperText={help}
      sx={{ width: 220 }}
    >
      {among.map(([value, word]) => (
        <MenuItem key={value} value={value}>
          {word}
        </MenuItem>
      ))}
    </TextField>
  );
  const none: [string, string] = ['', 'none'];
  const loses = draft.mode === 'async' || draft.mode === 'burst';
  const s = sheet.data;
  return (
    <Worksheet side={520}>
      <Box sx={{ p: 2, display: 'flex', flexDirection: 'column', gap: 2, minWidth: 0 }}>
        <h1 style={{ fontSize: 20, margin: 0 }}>A new database, replicated from birth</h1>
        <Row word="What it is">
          {field('id', 'Name')}
          {choice('engine', 'Engine', of('engine'))}
          {choice('objective', 'Objective', [none, ...of('objective')])}
          {field('sizeGb', 'Size, GB', 'room it is given')}
          {field('logKb', 'Log, kB a second', 'mean over a day')}
        </Row>
        <Row word="Where it lives">
          {choice('host', 'On host', of('host'))}
          {choice('replica', 'Replica on host', [none, ...of('host')])}
          {choice('group', 'In group', [none, ...of('group')])}
        </Row>
        <Row word="How it is kept">
          {choice(
            'mode',
            'How changes come',
            [
              ['sync', 'a commit waits'],
              ['async', 'after the commit'],
              ['burst', 'waits, may fall behind'],
              ['bothActive', 'both sides write'],
            ],
            loses ? 'what is not received can be lost' : 'nothing is lost while in step',
          )}
          {choice(
            'takesOver',
            'Takes over',
            [
              ['byHand', 'when a person says so'],
              ['byItself', 'by itself'],
              ['never', 'never: it is only read from'],
            ],
            loses && draft.takesOver === 'byItself' ? 'it will lose what it lacks, unasked' : undefined,
          )}
          {choice(
            'plan',
            'Plan',
            [none, ...(plans.data?.plans ?? []).map((p): [string, string] => [p.id, p.name])],
            'that names it from then on',
          )}
        </Row>
        <Box sx={{ display: 'flex', gap: 1.5, alignItems: 'center', flexWrap: 'wrap' }}>
          <Button
            variant="contained"
            disabled={!may || !ready || !s || s.canAct !== null || begin.isPending || sheet.error !== null}
            onClick={() => begin.mutate()}
          >
            Make it
          </Button>
          <Box sx={{ color: 'text.secondary', maxWidth: 480 }}>
            {s?.canAct ??
              (may
                ? 'All of it is taken back when a step fails before its replicas are proved. Let nobody in before that.'
                : 'Who administers does this.')}
          </Box>
        </Box>
        {begin.error && (
          <Alert severity="error" variant="outlined">
            {begin.error.message}
          </Alert>
        )}
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
        {!s && !sheet.error && <Box sx={{ color: 'text.secondary' }}>Give it a name, an engine and a host.</Box>}
        {s && <Comes view={s} />}
      </Side>
    </Worksheet>
  );
}

function Row({ word, children }: { word: string; children: ReactNode }) {
  return (
    <section aria-label={word}>
      <h2 style={{ fontSize: 14, margin: '0 0 10px' }}>{word}</h2>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5, alignItems: 'flex-start' }}>{children}</Box>
    </section>
  );
}

function Comes({ view: s }: { view: Schemas['NewDatabaseView'] }) {
  const line = (word: string, value: string) => (
    <Box key={word} sx={{ display: 'grid', gridTemplateColumns: '170px 1fr', py: 0.2 }}>
      <Box sx={{ color: 'text.secondary' }}>{word}</Box>
      <Box>{value}</Box>
    </Box>
  );
  const over = (seconds: number | null, limit: number | null) =>
    limit !== null && (seconds === null || seconds > limit) ? 'verdict.breached' : undefined;
  return (
    <>
      {line(
        'Stands alone for',
        s.aloneSeconds === null ? 'ever: no replica and no plan' : `about ${duration(s.aloneSeconds)}`,
      )}
      {line('Plans that take it', s.plans.length === 0 ? 'none' : s.plans.join(', '))}
      {line('First of all', s.firstBase ?? 'nothing is taken of it')}
      {s.replicas.map((r) =>
        line(
          r.id,
          `${r.byDesignSeconds === null ? 'never keeps up' : `lacks ${duration(r.byDesignSeconds)} by design`}${
            r.waitMs === null ? ', no link' : r.waitMs === 0 ? '' : `, a commit waits ${r.waitMs} ms at least`
          }`,
        ),
      )}
      <Box sx={{ height: 16 }} />
      <SideSection level="h3" title="What each loss would cost then, by its replicas alone">
        {s.losses.map((l) => (
          <Box key={l.kind} sx={{ display: 'grid', gridTemplateColumns: '170px 1fr', py: 0.2 }}>
            <Box sx={{ color: 'text.secondary' }}>{lossWord[l.kind] ?? l.kind}</Box>
            <Box>
              {l.lostSeconds === null ? (
                <Box component="span" sx={{ color: over(null, l.rpoSeconds) }}>
                  all of it
                </Box>
              ) : (
                <>
                  <Box component="span" sx={{ color: over(l.lostSeconds, l.rpoSeconds) }}>
                    lose {duration(l.lostSeconds)}
                  </Box>
                  ,{' '}
                  <Box component="span" sx={{ color: over(l.serviceSeconds, l.rtoSeconds) }}>
                    back in {duration(l.serviceSeconds)}
                  </Box>
                </>
              )}
            </Box>
          </Box>
        ))}
      </SideSection>
      <Found findings={s.findings} />
    </>
  );
}
