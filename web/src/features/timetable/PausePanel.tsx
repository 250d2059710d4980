import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got, type Schemas } from '../../api/client';
import { nowMs } from '../../app/live';
import { usePlaces, useZone } from '../../app/places';
import { useMay } from '../../app/session';
import { Failure } from '../../shared/Failure';
import { localTime, utc } from '../../shared/format';

const scopes = ['everything', 'plan', 'database', 'host', 'store'] as const;
type Scope = (typeof scopes)[number];

/** Pauses that hold or will hold: of a plan, a database, a host, a store, or everything; each with its reason and its end. */
export function PausePanel() {
  const may = useMay('operate');
  const zone = useZone();
  const queries = useQueryClient();
  const [open, setOpen] = useState(false);
  const pauses = useQuery({ queryKey: ['timetable', 'pauses'], queryFn: () => got(api.GET('/api/pauses')) });
  const refresh = () => void queries.invalidateQueries({ queryKey: ['timetable'] });
  const end = useMutation({
    mutationFn: (number: number) => got(api.POST('/api/pauses/{number}/end', { params: { path: { number } } })),
    onSuccess: refresh,
  });
  return (
    <Box component="section" aria-label="Pauses" sx={{ mt: 2.5 }}>
      <h2 style={{ margin: '2px 0 6px', fontSize: 15 }}>Pauses</h2>
      {pauses.data?.length === 0 && <Box sx={{ color: 'text.secondary' }}>Nothing is paused.</Box>}
      {pauses.data?.map((p) => (
        <Box key={p.id} sx={{ py: 0.5, borderTop: 1, borderColor: 'divider' }}>
          <b>{scopeOf(p)}</b>: {p.reason}
          <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
            from {localTime(p.from, zone, false)}{' '}
            {p.to ? `to ${localTime(p.to, zone, false)}` : 'until somebody ends it'}, by {p.who}
          </Box>
          {may && <Button onClick={() => end.mutate(p.id)}>End the pause</Button>}
        </Box>
      ))}
      {end.error && <Failure error={end.error} />}
      {may && !open && <Button onClick={() => setOpen(true)}>Pause something…</Button>}
      {open && (
        <PauseForm
          onDone={() => {
            setOpen(false);
            refresh();
          }}
        />
      )}
    </Box>
  );
}

function scopeOf(p: Schemas['PauseView']): string {
  return p.plan ?? p.database ?? p.host ?? p.store ?? 'everything';
}

function PauseForm({ onDone }: { onDone: () => void }) {
  const things = usePlaces().data?.things ?? [];
  const plans = useQuery({ queryKey: ['plans'], queryFn: () => got(api.GET('/api/plans')) });
  const choices = useQuery({
    queryKey: ['fleet', 'choices'],
    staleTime: 60_000,
    queryFn: () => got(api.GET('/api/choices')),
  });
  const [scope, setScope] = useState<Scope>('host');
  const [name, setName] = useState('');
  const [reason, setReason] = useState('');
  const [hours, setHours] = useState('2');
  const names: Record<Scope, string[]> = {
    everything: [],
    plan: (plans.data?.plans ?? []).map((p) => p.id),
    database: choices.data?.databases ?? [],
    host: things.filter((t) => t.kind === 'host').map((t) => t.id),
    store: things.filter((t) => t.kind === 'store').map((t) => t.id),
  };
  const add = useMutation({
    mutationFn: () =>
      got(
        api.POST('/api/pauses', {
          body: {
            from: null,
            to: hours === '' ? null : utc(Math.round(nowMs() + Number(hours) * 3_600_000)),
            plan: scope === 'plan' ? name : null,
            database: scope === 'database' ? name : null,
            host: scope === 'host' ? name : null,
            store: scope === 'store' ? name : null,
            reason,
          },
        }),
      ),
    onSuccess: onDone,
  });
  const ready = reason.trim() !== '' && (scope === 'everything' || name !== '') && !Number.isNaN(Number(hours));
  return (
    <Box sx={{ display: 'grid', gap: 1, mt: 1 }}>
      <TextField
        select
        label="Of what"
        value={scope}
        onChange={(e) => {
          setScope(e.target.value as Scope);
          setName('');
        }}
      >
        {scopes.map((s) => (
          <MenuItem key={s} value={s}>
            {s}
          </MenuItem>
        ))}
      </TextField>
      {scope !== 'everything' && (
        <TextField select label="Which" value={name} onChange={(e) => setName(e.target.value)}>
          {names[scope].map((n) => (
            <MenuItem key={n} value={n}>
              {n}
            </MenuItem>
          ))}
        </TextField>
      )}
      <TextField label="Why" value={reason} onChange={(e) => setReason(e.target.value)} />
      <TextField
        label="For how many hours (empty: until ended)"
        value={hours}
        onChange={(e) => setHours(e.target.value)}
      />
      <Box>
        <Button variant="contained" disabled={!ready || add.isPending} onClick={() => add.mutate()}>
          Pause it
        </Button>
        <Button onClick={onDone}>Leave it</Button>
      </Box>
      {add.error && <Failure error={add.error} />}
    </Box>
  );
}
