import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useDeferredValue, useState } from 'react';
import { useParams } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useAddress } from '../../app/address';
import { useClock } from '../../app/live';
import { usePlaces, useZone } from '../../app/places';
import { useGo } from '../../app/premise';
import { useMay } from '../../app/session';
import { ChoiceField } from '../../shared/ChoiceField';
import { DatabaseField } from '../../shared/DatabaseField';
import { Failure } from '../../shared/Failure';
import { readLocal, utc, writeLocal } from '../../shared/format';
import { Side } from '../../shared/Side';
import { Worksheet } from '../../shared/Worksheet';
import { LocalTimeField } from '../../shared/LocalTimeField';
import { ChangeComes } from './ChangeComes';
import { bodyOf, draftOf, emptyDraft, emptyPart, idOf, type Draft } from './script';

/** A change: its script and where it is carried out on the left, what a rehearsal and its day come to on the right. */
export default function ChangePage() {
  const { id } = useParams();
  const list = useQuery({ queryKey: ['changes'], queryFn: () => got(api.GET('/api/changes')) });
  const things = usePlaces().data?.things;
  if (list.error) return <Failure error={list.error} again={() => void list.refetch()} />;
  if (!list.data || !things) return <Box sx={{ p: 3, color: 'text.secondary' }}>Opening…</Box>;
  const kept = list.data.changes.find((c) => c.id === id);
  if (id && !kept) return <Box sx={{ p: 3 }}>There is no change {id}.</Box>;
  const engines = Object.fromEntries(things.filter((t) => t.kind === 'engine').map((t) => [t.id, t.name]));
  return <Sheet key={kept ? `${kept.id} ${kept.changedAt}` : 'new'} kept={kept ?? null} engines={engines} />;
}

function Sheet({ kept, engines }: { kept: Schemas['ChangeScriptView'] | null; engines: Record<string, string> }) {
  const zone = useZone();
  const go = useGo();
  const clock = useClock();
  const queries = useQueryClient();
  const [mayPlan, may] = [useMay('plan'), useMay('operate')];
  const things = usePlaces().data?.things ?? [];
  const hosts = Object.fromEntries(things.filter((t) => t.kind === 'host').map((t) => [t.id, t.id]));
  const [draft, setDraft] = useState<Draft>(() =>
    kept ? draftOf(kept.change) : emptyDraft(Object.keys(engines)[0] ?? ''),
  );
  const [params, putAddress] = useAddress();
  const database = params.get('database');
  const [host, setHost] = useState('first');
  const [end, setEnd] = useState<string | null>(null);
  const [watch, setWatch] = useState('10');
  const ending = end ?? (clock ? writeLocal(Math.ceil(clock.now / 3_600_000) * 3_600_000 + 2 * 3_600_000, zone) : '');
  const until = readLocal(ending, zone);
  const watchMinutes = Number(watch);
  const wrongWatch = !Number.isFinite(watchMinutes) || watchMinutes < 0;
  const body = {
    database: database ?? '',
    host: host === 'first' ? null : host,
    windowEnd: until === null ? null : utc(until),
    watchSeconds: wrongWatch ? null : watchMinutes * 60,
  };
  const asked = useDeferredValue(JSON.stringify(body));
  const path = { params: { path: { id: kept?.id ?? '' } } };
  const sheet = useQuery({
    queryKey: ['changes', kept?.id, kept?.changedAt, asked],
    enabled: kept !== null && database !== null,
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () => got(api.POST('/api/changes/{id}/worksheet', { ...path, body: JSON.parse(asked) as typeof body })),
  });
  const written = bodyOf(draft);
  const changed = kept === null || JSON.stringify(written) !== JSON.stringify(bodyOf(draftOf(kept.change)));
  const save = useMutation({
    mutationFn: () =>
      got(api.PUT('/api/changes/{id}', { params: { path: { id: kept?.id ?? idOf(draft.name) } }, body: written })),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ['changes'] });
      if (!kept) go(`/changes/${idOf(draft.name)}`);
    },
  });
  const remove = useMutation({
    mutationFn: () => got(api.DELETE('/api/changes/{id}', path)),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ['changes'] });
      go('/changes');
    },
  });
  const rehearse = useMutation({
    mutationFn: () => got(api.POST('/api/changes/{id}/rehearse', { ...path, body })),
    onSuccess: (r) => go(`/runs/${r.id}`),
  });
  const begin = useMutation({
    mutationFn: () => got(api.POST('/api/changes/{id}/begin', { ...path, body })),
    onSuccess: (r) => go(`/runs/${r.id}`),
  });
  const error = save.error ?? remove.error ?? rehearse.error ?? begin.error;
  const busy = save.isPending || remove.isPending || rehearse.isPending || begin.isPending;
  return (
    <Worksheet side={370}>
      <Box sx={{ p: 2, display: 'flex', flexDirection: 'column', gap: 1.75, minWidth: 0, maxWidth: 820 }}>
        <h1 style={{ fontSize: 20, margin: 0 }}>{kept ? kept.change.name : 'A change'}</h1>
        <Script
          draft={draft}
          put={(d) => setDraft((before) => ({ ...before, ...d }))}
          engines={engines}
          statements={kept?.statements ?? null}
          may={mayPlan}
        />
        {mayPlan && (
          <Box sx={{ display: 'flex', gap: 1, alignItems: 'center', flexWrap: 'wrap' }}>
            <Button
              variant="outlined"
              disabled={!changed || busy || idOf(draft.name) === ''}
              onClick={() => save.mutate()}
            >
              {kept ? 'Keep the script' : 'Keep it'}
            </Button>
            {kept && (
              <Button color="error" disabled={busy} onClick={() => remove.mutate()}>
                Delete it
              </Button>
            )}
            {kept && changed && (
              <Box sx={{ color: 'verdict.atRisk' }}>
                not kept yet: what is on the right is of the script that is kept
              </Box>
            )}
          </Box>
        )}
        {kept && (
          <>
            <Box component="h2" sx={{ m: 0, fontSize: 15 }}>
              Where, and until when
            </Box>
            <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5, alignItems: 'start' }}>
              <DatabaseField key={database} id={database} onPick={(d) => putAddress({ database: d }, true)} />
              <ChoiceField
                label="Rehearsed on"
                value={host}
                of={{ first: 'first that qualifies', ...hosts }}
                width={185}
                onChange={setHost}
              />
              <LocalTimeField
                label="The window ends"
                zone={zone}
                empty=""
                value={ending}
                onChange={setEnd}
                width={250}
              />
              <TextField
                label="Watched for, minutes"
                value={watch}
                onChange={(e) => setWatch(e.target.value)}
                error={wrongWatch}
                slotProps={{ htmlInput: { inputMode: 'decimal' } }}
                sx={{ width: 160 }}
              />
            </Box>
          </>
        )}
      </Box>
      <Side label="What comes of it">
        <Box component="h2" sx={{ m: 0, mb: 1, fontSize: 15 }}>
          What comes of it
        </Box>
        {(!kept || database === null) && (
          <Box sx={{ color: 'text.secondary' }}>
            {kept ? 'Choose a database.' : 'Keep it first; then choose where it is rehearsed.'}
          </Box>
        )}
        {sheet.data && kept && (
          <ChangeComes
            sheet={sheet.data}
            end={until}
            may={may && !busy && !changed && !sheet.isPlaceholderData}
            rehearse={() => rehearse.mutate()}
            begin={() => begin.mutate()}
          />
        )}
        {(sheet.error ?? error) && (
          <Alert severity="error" variant="outlined" sx={{ mt: 1.5 }}>
            {(sheet.error ?? error)!.message}
          </Alert>
        )}
      </Side>
    </Worksheet>
  );
}

/** The script: parts and queries, each timed by itself. */
function Script({
  draft,
  put,
  engines,
  statements,
  may,
}: {
  draft: Draft;
  put: (d: Partial<Draft>) => void;
  engines: Record<string, string>;
  statements: string | null;
  may: boolean;
}) {
  const part = (i: number, p: Partial<Draft['parts'][number]>) =>
    put({ parts: draft.parts.map((x, n) => (n === i ? { ...x, ...p } : x)) });
  const query = (i: number, q: Partial<Draft['queries'][number]>) =>
    put({ queries: draft.queries.map((x, n) => (n === i ? { ...x, ...q } : x)) });
  const out = draft.parts.some((p) => p.moves);
  const mono = { '& textarea, & input': { fontFamily: 'monospace', fontSize: 12.5 } };
  return (
    <Box inert={!may} sx={{ minWidth: 0, display: 'flex', flexDirection: 'column', gap: 1.5 }}>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5 }}>
        <TextField
          label="Name"
          value={draft.name}
          onChange={(e) => put({ name: e.target.value })}
          sx={{ flex: '1 1 260px' }}
        />
        <ChoiceField label="Of" value={draft.engine} of={engines} width={200} onChange={(engine) => put({ engine })} />
        <ChoiceField
          label="Others meanwhile"
          value={draft.keepsOut || out ? 'out' : 'in'}
          of={out ? { out: 'are kept out' } : { in: 'go on working', out: 'are kept out' }}
          width={165}
          onChange={(v) => put({ keepsOut: v === 'out' })}
        />
      </Box>
      {draft.parts.map((p, i) => (
        <Box
          key={i}
          role="group"
          aria-label={`Part ${i + 1}`}
          sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5, alignItems: 'start' }}
        >
          <TextField
            label={`Part ${i + 1}`}
            value={p.name}
            onChange={(e) => part(i, { name: e.target.value })}
            sx={{ width: 150 }}
          />
          <ChoiceField
            label="Does"
            value={p.moves ? 'moves' : 'statements'}
            of={{ statements: 'statements', moves: 'another version' }}
            width={150}
            onChange={(v) => part(i, { moves: v === 'moves' })}
          />
          <TextField
            label={p.moves ? 'To version' : 'Statements, one a line, or each ended by ;'}
            value={p.text}
            multiline={!p.moves}
            minRows={2}
            maxRows={12}
            onChange={(e) => part(i, { text: e.target.value })}
            helperText={!p.moves && statements && i === draft.parts.findIndex((x) => !x.moves) ? statements : undefined}
            sx={{ flex: '1 1 260px', ...mono }}
          />
          {may && draft.parts.length > 1 && (
            <Button color="error" onClick={() => put({ parts: draft.parts.filter((_, n) => n !== i) })}>
              Remove
            </Button>
          )}
        </Box>
      ))}
      {draft.queries.map((q, i) => (
        <Box key={i} role="group" aria-label={`Query ${i + 1}`} sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5 }}>
          <TextField
            label="Query named"
            value={q.name}
            onChange={(e) => query(i, { name: e.target.value })}
            sx={{ width: 150 }}
          />
          <TextField
            label="Asked before and after"
            value={q.query}
            onChange={(e) => query(i, { query: e.target.value })}
            sx={{ flex: '1 1 260px', ...mono }}
          />
          {may && (
            <Button color="error" onClick={() => put({ queries: draft.queries.filter((_, n) => n !== i) })}>
              Remove
            </Button>
          )}
        </Box>
      ))}
      {may && (
        <Box sx={{ display: 'flex', gap: 1 }}>
          <Button onClick={() => put({ parts: [...draft.parts, emptyPart()] })}>One more part</Button>
          <Button onClick={() => put({ queries: [...draft.queries, { name: '', query: '' }] })}>One more query</Button>
        </Box>
      )}
    </Box>
  );
}
