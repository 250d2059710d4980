import Alert from '@mui/material/Alert';
import Autocomplete from '@mui/material/Autocomplete';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import FormControlLabel from '@mui/material/FormControlLabel';
import TextField from '@mui/material/TextField';
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useDeferredValue, useState } from 'react';
import { useLocation, useParams } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { usePlaces, useZone } from '../../app/places';
import { useGo } from '../../app/premise';
import { useMay } from '../../app/session';
import { ChoiceField } from '../../shared/ChoiceField';
import { Failure } from '../../shared/Failure';
import { localTime, readLocal, utc, writeLocal } from '../../shared/format';
import { Side } from '../../shared/Side';
import { SideSection } from '../../shared/SideSection';
import { Worksheet } from '../../shared/Worksheet';
import { LocalTimeField } from '../../shared/LocalTimeField';
import { idOfPart, lists, put, typed, type ListName, type Member, type Part } from './members';
import { WhatItDoes } from './WhatItDoes';

/** A part of the fleet: its members on the left, what the change does to verdicts and how it came to be so on the right. */
export default function PartPage() {
  const { list = '', id = 'new' } = useParams();
  const parts = useQuery({
    queryKey: ['parts', list, 'one', id],
    enabled: list in lists,
    queryFn: () =>
      got(
        api.GET('/api/fleet/parts/{list}', {
          params: { path: { list }, query: id === 'new' ? {} : { find: partName(id) } },
        }),
      ),
  });
  if (!(list in lists)) return <Box sx={{ p: 3 }}>The fleet has no {list}.</Box>;
  if (parts.error) return <Failure error={parts.error} again={() => void parts.refetch()} />;
  if (!parts.data) return <Box sx={{ p: 3, color: 'text.secondary' }}>Opening…</Box>;
  const kept = (parts.data.parts as Part[]).find((p) => idOfPart(list as ListName, p) === id) ?? null;
  if (id !== 'new' && !kept)
    return (
      <Box sx={{ p: 3 }}>
        There is no {lists[list as ListName].one} {id}.
      </Box>
    );
  return <Sheet key={`${list} ${id}`} list={list as ListName} kept={kept} version={parts.data.version} />;
}

/** By what a part is found: of a link, one of its ends. */
const partName = (id: string) => id.split('|')[0]!;

function Sheet({ list, kept, version }: { list: ListName; kept: Part | null; version: number }) {
  const of = lists[list];
  const go = useGo();
  const zone = useZone();
  const queries = useQueryClient();
  const may = useMay('administer');
  const things = usePlaces().data?.things ?? [];
  // What a host said it runs comes filled in.
  const filled = (useLocation().state as { part?: Part } | null)?.part;
  const [part, setPart] = useState<Part>(kept ?? filled ?? {});
  const [removing, setRemoving] = useState(false);
  // What was typed stays as it was typed: a list is not one word shorter because its comma has no word behind it yet.
  const [written, setWritten] = useState<Record<string, string>>({});
  const [wrong, setWrong] = useState<string[]>([]);
  const [why, setWhy] = useState('');
  const id = list === 'links' ? ((part.between as string[] | undefined) ?? []).join('|') : String(part.id ?? '');
  const changed = JSON.stringify(part) !== JSON.stringify(kept ?? {});
  const bad = wrong.length > 0;
  const asked = useDeferredValue(JSON.stringify(part));
  const ready = id !== '' && (list !== 'links' || id.split('|').every((s) => s !== ''));
  const preview = useQuery({
    queryKey: ['parts', 'preview', list, id, removing ? null : asked, version],
    enabled: removing || (ready && changed && !bad),
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () =>
      got(
        api.POST('/api/fleet/preview', {
          body: { list, id, part: removing ? null : (JSON.parse(asked) as Record<string, never>) },
        }),
      ),
  });
  const history = useQuery({
    queryKey: ['parts', 'history', list, id, version],
    enabled: kept !== null,
    queryFn: () => got(api.GET('/api/fleet/parts/{list}/{id}/history', { params: { path: { list, id } } })),
  });
  const query = { basedOn: version, ...(why.trim() && { why: why.trim() }) };
  const done = async (to: string) => {
    await queries.invalidateQueries();
    go(to);
  };
  const save = useMutation({
    mutationFn: () =>
      got(
        api.PUT('/api/fleet/{list}/{id}', {
          params: { path: { list, id }, query },
          body: part as Record<string, never>,
        }),
      ),
    onSuccess: () => done(`/setup/fleet/${list}`),
  });
  const remove = useMutation({
    mutationFn: () => got(api.DELETE('/api/fleet/{list}/{id}', { params: { path: { list, id }, query } })),
    onSuccess: () => done(`/setup/fleet/${list}`),
  });
  const p = removing || (changed && !bad && ready) ? preview.data : undefined;
  const error = save.error ?? remove.error;
  const set = (m: Member, text: string | string[] | boolean) => {
    const next = put(part, m, text);
    if (typeof text === 'string') setWritten((before) => ({ ...before, [m.key]: text }));
    setWrong((before) => [...before.filter((key) => key !== m.key), ...(next === null ? [m.key] : [])]);
    setRemoving(false);
    if (next !== null) setPart(next);
  };
  const named = (list: ListName) =>
    things.filter((t) => `${t.kind}s` === list || (list === 'sites' && t.kind === 'site'));
  return (
    <Worksheet side={370}>
      <Box sx={{ p: 2, display: 'flex', flexDirection: 'column', gap: 1.75, minWidth: 0, maxWidth: 820 }}>
        <h1 style={{ fontSize: 20, margin: 0 }}>
          {kept
            ? `${of.one[0]!.toUpperCase()}${of.one.slice(1)} ${list === 'links' ? id.replace('|', ' – ') : id}`
            : `A new ${of.one}`}
        </h1>
        <Box inert={!may} sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5, alignItems: 'start' }}>
          {!kept &&
            (list === 'links' ? (
              [0, 1].map((end) => (
                <ChoiceField
                  key={end}
                  label={end === 0 ? 'Between' : 'and'}
                  value={((part.between as string[] | undefined) ?? [])[end] ?? ''}
                  of={Object.fromEntries(named('sites').map((t) => [t.id, t.name]))}
                  width={200}
                  onChange={(v) => {
                    const ends = [...((part.between as string[] | undefined) ?? ['', ''])];
                    ends[end] = v;
                    setPart({ ...part, between: ends });
                  }}
                />
              ))
            ) : (
              <TextField
                label="Identifier"
                value={id}
                onChange={(e) => setPart({ ...part, id: e.target.value })}
                helperText="stays the same for good"
                sx={{ width: 220 }}
              />
            ))}
          {of.members.map((m) => (
            <Field
              key={m.key}
              member={m}
              part={part}
              written={written[m.key]}
              wrong={wrong.includes(m.key)}
              zone={zone}
              named={named}
              set={(t) => set(m, t)}
            />
          ))}
        </Box>
      </Box>
      <Side label="What comes of it">
        <Box component="h2" sx={{ m: 0, mb: 1, fontSize: 15 }}>
          Before it is kept
        </Box>
        {removing && <Box sx={{ mb: 0.5, fontWeight: 650 }}>Without this {of.one}:</Box>}
        {!changed && !removing && <Box sx={{ color: 'text.secondary' }}>Nothing is changed.</Box>}
        {p && <WhatItDoes preview={p} />}
        {preview.error && (
          <Alert severity="error" variant="outlined">
            {preview.error.message}
          </Alert>
        )}
        {may && (
          <Box sx={{ mt: 1.5 }}>
            <TextField
              label="Why"
              value={why}
              onChange={(e) => setWhy(e.target.value)}
              slotProps={{ htmlInput: { maxLength: 500 } }}
              fullWidth
              sx={{ mb: 1 }}
            />
            <Box sx={{ display: 'flex', gap: 1 }}>
              <Button
                variant="contained"
                disabled={removing || !changed || bad || !ready || save.isPending || p?.fault != null}
                onClick={() => save.mutate()}
              >
                Keep it
              </Button>
              {kept && (
                <Button
                  color="error"
                  variant={removing ? 'contained' : 'text'}
                  disabled={
                    remove.isPending || (removing && (p === undefined || preview.isPlaceholderData || p.fault != null))
                  }
                  onClick={() => (removing ? remove.mutate() : setRemoving(true))}
                >
                  {removing ? 'Remove it for good' : `Remove this ${of.one}`}
                </Button>
              )}
            </Box>
          </Box>
        )}
        {!may && <Box sx={{ color: 'text.secondary', mt: 1 }}>Only who administers may change the fleet.</Box>}
        {error && (
          <Alert severity="error" variant="outlined" sx={{ mt: 1.5 }}>
            {error.message}
          </Alert>
        )}
        {history.data && history.data.length > 0 && (
          <Box sx={{ mt: 2.5 }}>
            <SideSection title="How it came to be so">
              {history.data.map((h, i) => (
                <Version
                  key={h.version}
                  version={h}
                  before={history.data[i + 1]?.part ?? null}
                  zone={zone}
                  members={of.members}
                />
              ))}
            </SideSection>
          </Box>
        )}
      </Side>
    </Worksheet>
  );
}

function Field({
  member: m,
  part,
  written,
  wrong,
  zone,
  named,
  set,
}: {
  member: Member;
  part: Part;
  written: string | undefined;
  wrong: boolean;
  zone: string;
  named: (list: ListName) => { id: string; name: string }[];
  set: (text: string | string[] | boolean) => void;
}) {
  // A time is kept as it is typed until it is one.
  const [time, setTime] = useState<string | null>(null);
  const label = m.needed ? `${m.label} *` : m.label;
  const value = part[m.key];
  switch (m.kind) {
    case 'flag':
      return (
        <FormControlLabel
          sx={{ minWidth: 220 }}
          control={<Checkbox size="small" checked={value === true} onChange={(e) => set(e.target.checked)} />}
          label={m.label}
        />
      );
    case 'one':
      return (
        <ChoiceField
          label={label}
          value={typeof value === 'string' ? value : m.needed ? '' : '–'}
          of={{ ...(m.needed ? {} : { '–': 'none' }), ...Object.fromEntries(named(m.of).map((t) => [t.id, t.name])) }}
          width={220}
          onChange={(v) => set(v === '–' ? '' : v)}
        />
      );
    case 'word':
      return (
        <ChoiceField
          label={label}
          value={typeof value === 'string' ? value : Object.keys(m.words)[0]!}
          of={m.words}
          width={160}
          onChange={set}
        />
      );
    case 'words':
    case 'some': {
      const words = m.kind === 'words' ? m.words : Object.fromEntries(named(m.of).map((t) => [t.id, t.id]));
      return (
        <Autocomplete
          multiple
          size="small"
          sx={{ minWidth: 300, flex: '1 1 300px' }}
          options={Object.keys(words)}
          getOptionLabel={(o) => words[o] ?? o}
          value={(value as string[] | undefined) ?? []}
          onChange={(_, v) => set(v)}
          renderInput={(props) => <TextField {...props} label={label} helperText={m.hint} />}
        />
      );
    }
    case 'time': {
      const text = time ?? (typeof value === 'string' ? writeLocal(Date.parse(value), zone) : '');
      return (
        <LocalTimeField
          label={label}
          zone={zone}
          empty=""
          value={text}
          {...(m.hint !== undefined && { help: m.hint })}
          onChange={(written) => {
            setTime(written);
            const at = readLocal(written, zone);
            if (written.trim() === '' || at !== null) set(at === null ? '' : utc(at));
          }}
          width={260}
        />
      );
    }
    default:
      return (
        <TextField
          label={label}
          value={written ?? typed(m, value)}
          error={wrong}
          helperText={wrong && m.kind === 'number' ? 'a number' : m.hint}
          onChange={(e) => set(e.target.value)}
          slotProps={m.kind === 'number' ? { htmlInput: { inputMode: 'decimal' } } : {}}
          sx={
            m.kind === 'number'
              ? { width: 220 }
              : { flex: m.key === 'reason' ? '1 1 100%' : '1 1 260px', maxWidth: m.key === 'reason' ? undefined : 400 }
          }
        />
      );
  }
}

/** A version of the part: who, when, why, and which members were other than before. */
function Version({
  version: v,
  before,
  zone,
  members,
}: {
  version: Schemas['PartVersion'];
  before: Part | null;
  zone: string;
  members: Member[];
}) {
  const now = v.part as Part | null;
  const changed =
    now && before ? members.filter((m) => JSON.stringify(now[m.key]) !== JSON.stringify(before[m.key])) : [];
  return (
    <Box sx={{ mb: 0.75 }}>
      <Box>
        <b>{localTime(v.at, zone)}</b>, {v.who}
        {v.why && `: ${v.why}`}
      </Box>
      <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
        {now === null
          ? 'removed'
          : before === null
            ? 'added'
            : changed
                .map((m) => `${m.label}: ${typed(m, before[m.key]) || '–'} → ${typed(m, now[m.key]) || '–'}`)
                .join('; ')}
      </Box>
    </Box>
  );
}
