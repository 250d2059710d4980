import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { useDeferredValue, useState } from 'react';
import { useParams } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { usePlaces } from '../../app/places';
import { useGo } from '../../app/premise';
import { useMay } from '../../app/session';
import { CheckList } from '../../shared/CheckList';
import { ChoiceField } from '../../shared/ChoiceField';
import { bytes, duration } from '../../shared/format';
import { Side } from '../../shared/Side';
import { SideSection } from '../../shared/SideSection';
import { Worksheet } from '../../shared/Worksheet';

type Strength = NonNullable<Schemas['Compression']>;

const kinds: Record<Schemas['SetKind'], string> = {
  full: 'a full',
  differential: 'a differential',
  incremental: 'an incremental',
  export: 'an export',
  snapshot: 'a snapshot',
  log: 'log',
};
const strengths: Record<Strength, string> = { off: 'not at all', light: 'lightly', strong: 'strongly' };

/** A copy of a database now, this way, to there: what is chosen on the left, what the account sees and what it costs on the right. */
export default function AdHocPage() {
  const { id = '' } = useParams();
  const go = useGo();
  const may = useMay('operate');
  const things = usePlaces().data?.things ?? [];
  const stores = things.filter((t) => t.kind === 'store').map((t) => t.id);
  const found = useQuery({
    queryKey: ['fleet', 'find', id],
    queryFn: () => got(api.GET('/api/fleet', { params: { query: { find: id, take: 20 } } })),
  });
  const name = found.data?.rows.find((r) => r.id === id)?.name ?? id;
  const [kind, setKind] = useState<Schemas['SetKind']>('full');
  const [store, setStore] = useState<string | null>(null);
  const [compression, setCompression] = useState<Strength>('light');
  const [key, setKey] = useState('none');
  const [why, setWhy] = useState('');
  const body = {
    kind,
    store: store ?? stores[0] ?? '',
    compression,
    key: key === 'none' ? null : key,
    why: why.trim() || null,
  };
  const asked = useDeferredValue(JSON.stringify(body));
  const path = { params: { path: { id } } };
  const sheet = useQuery({
    queryKey: ['ad-hoc', id, asked],
    enabled: stores.length > 0,
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () =>
      got(api.POST('/api/databases/{id}/copy/worksheet', { ...path, body: JSON.parse(asked) as typeof body })),
  });
  const sees = useQuery({
    queryKey: ['sees', id],
    enabled: may,
    queryFn: () => got(api.GET('/api/databases/{id}/sees', path)),
  });
  const take = useMutation({
    mutationFn: () => got(api.POST('/api/databases/{id}/copy', { ...path, body })),
    onSuccess: (r) => go(`/runs/${r.id}`),
  });
  const s = sheet.data;
  return (
    <Worksheet side={340}>
      <Box sx={{ p: 2, display: 'flex', flexDirection: 'column', gap: 1.75, minWidth: 0, maxWidth: 760 }}>
        <h1 style={{ fontSize: 20, margin: 0 }}>A copy of {name}, now</h1>
        <Box sx={{ color: 'text.secondary' }}>
          Whatever plans say: it stands outside the chain, so that nothing builds on it, and is a way back like any
          other. Afterwards it is read back, and compared with others of its kind.
        </Box>
        <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5 }}>
          <ChoiceField
            label="What"
            value={kind}
            of={Object.fromEntries((s?.kinds ?? ['full' as const]).map((k) => [k, kinds[k]]))}
            width={170}
            onChange={(v) => setKind(v as typeof kind)}
          />
          <ChoiceField
            label="To"
            value={body.store}
            of={Object.fromEntries(stores.map((x) => [x, x]))}
            width={170}
            onChange={setStore}
          />
          <ChoiceField
            label="Compressed"
            value={compression}
            of={strengths}
            width={150}
            onChange={(v) => setCompression(v as typeof compression)}
          />
          <ChoiceField
            label="Encrypted with"
            value={key}
            of={{ none: 'no key', ...Object.fromEntries((s?.keys ?? []).map((k) => [k, k])) }}
            width={190}
            onChange={setKey}
          />
        </Box>
        <TextField
          label="What for"
          value={why}
          onChange={(e) => setWhy(e.target.value)}
          helperText="goes into the ledger"
          slotProps={{ htmlInput: { maxLength: 500 } }}
        />
      </Box>
      <Side label="What comes of it">
        <Box component="h2" sx={{ m: 0, mb: 1, fontSize: 15 }}>
          Before you act
        </Box>
        {s && s.seconds !== null && (
          <Box sx={{ mb: 1.5 }}>
            About <b>{duration(s.seconds)}</b>, alone on the machine; <b>{bytes(s.storedBytes!)}</b> go into{' '}
            {body.store}.
          </Box>
        )}
        {s?.refused && (
          <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
            It cannot be taken: {s.refused}.
          </Alert>
        )}
        <SideSection title="What the account sees">
          {sees.data?.why != null && (
            <Alert severity="error" variant="outlined">
              It could not be asked: {sees.data.why}.
            </Alert>
          )}
          {sees.data?.why === null && (
            <>
              {sees.data.partial && (
                <Box sx={{ color: 'verdict.breached', mb: 0.5 }}>
                  This list is partial: what the account does not see, nobody would miss in the copy.
                </Box>
              )}
              <CheckList checks={sees.data.things.map((t) => ({ name: t.name, passed: t.seen, detail: t.detail }))} />
            </>
          )}
          {sees.isPending && may && <Box sx={{ color: 'text.secondary' }}>Asking…</Box>}
          {!may && <Box sx={{ color: 'text.secondary' }}>Only who operates or administers may ask.</Box>}
        </SideSection>
        {take.error && (
          <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
            {take.error.message}
          </Alert>
        )}
        {s && (
          <Button
            variant="contained"
            size="large"
            disabled={!may || s.refused !== null || take.isPending || sheet.isPlaceholderData}
            onClick={() => take.mutate()}
          >
            Take it
          </Button>
        )}
      </Side>
    </Worksheet>
  );
}
