import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { useDeferredValue, useState } from 'react';
import { api, got, type Schemas } from '../../api/client';
import { useAddress } from '../../app/address';
import { usePlaces } from '../../app/places';
import { useGo } from '../../app/premise';
import { useMay } from '../../app/session';
import { DatabaseField } from '../../shared/DatabaseField';
import { bytes, duration } from '../../shared/format';
import { Found } from '../../shared/Found';
import { Side } from '../../shared/Side';
import { SideSection } from '../../shared/SideSection';
import { Worksheet } from '../../shared/Worksheet';
import { Losses } from './Losses';
import { modeWord } from './words';

interface Draft {
  id: string;
  host: string;
  array: string;
  opensOn: string;
  waits: 'yes' | 'no';
  group: string;
  mode: Schemas['ReplicaMode'];
  readable: Schemas['ReplicaReadable'];
  takesOver: Schemas['TakesOver'];
  whenCut: Schemas['WhenCut'];
  resume: 'byItself' | 'byHand';
  delaySeconds: string;
  rewindSeconds: string;
  promoteSeconds: string;
  keepLogHours: string;
}

const modes: Schemas['ReplicaMode'][] = ['sync', 'async', 'burst', 'shipped', 'array', 'bothActive'];

/** The replica as it would stand in the fleet file. */
export function partOf(draft: Draft, database: string) {
  const number = (text: string, factor = 1) => (text.trim() === '' ? null : Number(text) * factor);
  return {
    id: draft.id.trim(),
    database,
    ...(draft.mode === 'array'
      ? { array: draft.array, opensOn: [draft.opensOn], waits: draft.waits === 'yes' }
      : { host: draft.host }),
    mode: draft.mode,
    readable: draft.readable,
    takesOver: draft.takesOver,
    whenCut: draft.whenCut,
    resume: draft.resume,
    delaySeconds: number(draft.delaySeconds),
    rewindSeconds: number(draft.rewindSeconds),
    promoteSeconds: number(draft.promoteSeconds),
    keepLogSeconds: number(draft.keepLogHours, 3600),
    ...(draft.mode === 'shipped'
      ? {
          stages: {
            backup: { everySeconds: 300, takesSeconds: 5 },
            copy: { everySeconds: 300, takesSeconds: 8 },
            apply: { everySeconds: 300, takesSeconds: 20 },
            keepAtSourceSeconds: number(draft.keepLogHours, 3600),
            keepHereSeconds: number(draft.keepLogHours, 3600),
          },
        }
      : {}),
  };
}

/** A replica that is not there yet: what is chosen on the left, what comes of it on the right while one chooses. */
export default function NewReplicaPage() {
  const [params, put] = useAddress();
  const database = params.get('database');
  const places = usePlaces().data;
  const may = useMay('administer');
  const go = useGo();
  const [draft, setDraft] = useState<Draft>({
    id: '',
    host: params.get('host') ?? '',
    array: '',
    opensOn: '',
    waits: 'no',
    group: '',
    mode: 'async',
    readable: 'always',
    takesOver: 'byHand',
    whenCut: 'goOn',
    resume: 'byItself',
    delaySeconds: '0',
    rewindSeconds: '0',
    promoteSeconds: '40',
    keepLogHours: '24',
  });
  const set = <K extends keyof Draft>(key: K, value: Draft[K]) => setDraft((d) => ({ ...d, [key]: value }));
  const place = draft.mode === 'array' ? draft.opensOn && draft.array : draft.host;
  const named = { ...draft, id: draft.id || (database && place ? `${database}-${place}` : '') };
  const group = draft.group || null;
  const things = places?.things ?? [];
  const of = (kind: string, site?: string | null) =>
    Object.fromEntries(
      things.filter((t) => t.kind === kind && (site === undefined || t.site === site)).map((t) => [t.id, t.name]),
    );
  const asked = useDeferredValue(JSON.stringify(partOf(named, database ?? '')));
  const sheet = useQuery({
    queryKey: ['replicas', 'worksheet', asked, group],
    enabled: database !== null && place !== '',
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () =>
      got(
        api.POST('/api/replicas/worksheet', {
          body: { replica: JSON.parse(asked) as Record<string, never>, group },
        }),
      ),
  });
  const begin = useMutation({
    mutationFn: () =>
      got(
        api.POST('/api/replicas', {
          body: { replica: partOf(named, database ?? '') as unknown as Record<string, never>, group },
        }),
      ),
    onSuccess: (run) => go(`/runs/${run.id}`),
  });
  const field = (key: keyof Draft, label: string, help: string) => (
    <TextField
      label={label}
      value={draft[key]}
      onChange={(e) => set(key, e.target.value as never)}
      helperText={help}
      sx={{ width: 220 }}
    />
  );
  const choice = <K extends keyof Draft>(key: K, label: string, of: Record<string, string>, help?: string) => (
    <TextField
      select
      label={label}
      value={draft[key]}
      onChange={(e) => set(key, e.target.value as Draft[K])}
      helperText={help}
      sx={{ width: 220 }}
    >
      {Object.entries(of).map(([value, word]) => (
        <MenuItem key={value} value={value}>
          {word}
        </MenuItem>
      ))}
    </TextField>
  );
  const s = sheet.data;
  return (
    <Worksheet side={560}>
      <Box sx={{ p: 2, display: 'flex', flexDirection: 'column', gap: 2, minWidth: 0 }}>
        <h1 style={{ fontSize: 20, margin: 0 }}>A new replica</h1>
        <DatabaseField id={database} onPick={(id) => put({ database: id }, true)} />
        <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5, alignItems: 'flex-start' }}>
          {draft.mode === 'array' ? (
            <>
              {choice('array', 'On array', of('array'), 'its blocks are copied by the array')}
              {choice(
                'opensOn',
                'Opened on',
                of('host', things.find((t) => t.kind === 'array' && t.id === draft.array)?.site ?? null),
                'a host of the same site',
              )}
              {choice('waits', 'A commit', { no: 'does not wait for it', yes: 'waits for it' })}
            </>
          ) : (
            choice('host', 'On host', of('host'))
          )}
          <TextField
            label="Name"
            value={draft.id}
            placeholder={named.id}
            onChange={(e) => set('id', e.target.value)}
            sx={{ width: 220 }}
          />
          {choice(
            'mode',
            'How changes come',
            Object.fromEntries(modes.map((m) => [m, modeWord[m]])),
            draft.mode === 'sync' || draft.mode === 'bothActive'
              ? 'nothing is lost while in step; a commit waits'
              : draft.mode === 'shipped'
                ? 'every 5 min in three stages'
                : 'no commit waits; what is not received can be lost',
          )}
          {choice(
            'group',
            'Joins group',
            { '': 'none', ...of('group') },
            draft.group ? 'held, resumed and taken over with it' : undefined,
          )}
          {choice('readable', 'Can be read', {
            always: 'always',
            never: 'never',
            betweenApplies: 'between two applies',
          })}
          {choice(
            'takesOver',
            'Takes over',
            { byHand: 'when a person says so', byItself: 'by itself', never: 'never: it is only read from' },
            draft.takesOver === 'byItself' && draft.mode !== 'sync' && draft.mode !== 'bothActive'
              ? 'it will lose what it lacks, unasked'
              : undefined,
          )}
          {choice(
            'whenCut',
            'While it is cut off',
            { goOn: 'the primary goes on', stop: 'nothing may be written' },
            draft.whenCut === 'stop' ? 'loses nothing, and stops the service' : 'goes on writing what it lacks',
          )}
          {choice('resume', 'After that it goes on', { byItself: 'by itself', byHand: 'when a person says so' })}
          {field('delaySeconds', 'Held back, seconds', 'against a bad change: longer than it takes to notice')}
          {field('rewindSeconds', 'Can go back, seconds', 'behind what it has applied')}
          {field('promoteSeconds', 'Takes over in, seconds', 'what waits to be applied aside')}
          {field('keepLogHours', 'Source keeps log for, hours', 'so long it may stay away')}
        </Box>
        <Box sx={{ display: 'flex', gap: 1.5, alignItems: 'center', flexWrap: 'wrap' }}>
          <Button
            variant="contained"
            disabled={!may || !s || s.canAct !== null || begin.isPending || sheet.error !== null}
            onClick={() => begin.mutate()}
          >
            Set it up
          </Button>
          <Box sx={{ color: 'text.secondary' }}>
            {s?.canAct ?? (may ? 'What it needs is tried before anything is changed.' : 'Who administers does this.')}
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
        {!s && !sheet.error && <Box sx={{ color: 'text.secondary' }}>Choose a database and a place.</Box>}
        {s && <Comes sheet={s} />}
      </Side>
    </Worksheet>
  );
}

function Comes({ sheet: s }: { sheet: Schemas['WorksheetView'] }) {
  const most = Math.max(...s.logByHour, s.linkBytesPerSecond ?? 0, 1);
  const line = (word: string, value: string) => (
    <Box sx={{ display: 'grid', gridTemplateColumns: '170px 1fr', py: 0.2 }}>
      <Box sx={{ color: 'text.secondary' }}>{word}</Box>
      <Box>{value}</Box>
    </Box>
  );
  return (
    <>
      {line('By design could lose', s.byDesignSeconds === null ? 'it never keeps up' : duration(s.byDesignSeconds))}
      {line(
        'Read there is old by',
        s.readByDesignSeconds === null ? 'it never keeps up' : duration(s.readByDesignSeconds),
      )}
      {line(
        'A commit waits',
        s.waitMs === null ? 'there is no link' : s.waitMs === 0 ? 'not for it' : `${s.waitMs} ms at least`,
      )}
      {line(
        'In step after',
        s.seedSeconds === null
          ? 'never'
          : `${duration(s.seedSeconds)}, ${s.seedByBackup ? 'from backups and log' : 'by a copy of the database'}`,
      )}
      <Box sx={{ height: 16 }} />
      <SideSection level="h3" title="What each loss would cost">
        <Losses changes={s.worth} word="with it" />
      </SideSection>
      {s.logByHour.length > 0 && (
        <SideSection level="h3" title="Load on the link by hour (UTC)">
          <svg
            viewBox="0 0 240 60"
            preserveAspectRatio="none"
            width="100%"
            height={76}
            role="img"
            aria-label="Log by hour against the link"
          >
            {s.logByHour.map((b, h) => (
              <rect
                key={h}
                x={h * 10 + 1}
                y={58 - (b / most) * 52}
                width={8}
                height={Math.max(0.5, (b / most) * 52)}
                fill={`var(--mui-palette-${s.linkBytesPerSecond !== null && b > s.linkBytesPerSecond ? 'verdict-breached' : 'primary-main'})`}
              />
            ))}
            {s.linkBytesPerSecond !== null && (
              <line
                x1="0"
                x2="240"
                y1={58 - (s.linkBytesPerSecond / most) * 52}
                y2={58 - (s.linkBytesPerSecond / most) * 52}
                stroke="var(--mui-palette-text-secondary)"
                strokeDasharray="3 2"
              />
            )}
          </svg>
          <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
            {s.linkBytesPerSecond === null
              ? 'Within one site.'
              : `The link carries ${bytes(s.linkBytesPerSecond)}/s (dashed); the busiest hour takes ${
                  s.busiestShare === null
                    ? 'an unknown part'
                    : s.busiestShare < 0.001
                      ? 'under 0.1 %'
                      : `${Number((s.busiestShare * 100).toPrecision(2))} %`
                } of it.`}
          </Box>
        </SideSection>
      )}
      <Found findings={s.findings} />
    </>
  );
}
