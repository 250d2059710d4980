import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ApiError, got, type Schemas } from '../../api/client';
import { bytes } from '../../shared/format';
import { LabelledField } from './LabelledField';

const empty = {
  address: '127.0.0.1',
  port: '5432',
  user: '',
  signInTo: 'postgres',
  credential: '',
  database: '',
  site: '',
  store: '',
  storeSite: '',
  folder: '',
  restoreHost: '',
  restoreFolder: '',
  objective: '',
  rate: '',
};

const labels: Record<keyof typeof empty, [string, string]> = {
  address: ['Address', 'name or address of its machine'],
  port: ['Port', ''],
  user: ['Role', 'may receive log and see statistics'],
  signInTo: ['Database to sign in to', ''],
  credential: ['Credential', 'its name; the value stays in a file or the environment'],
  database: ['What to call it', 'letters, digits, dot, dash'],
  site: ['Site it stands in', ''],
  store: ['Store', 'for its fulls and its log'],
  storeSite: ['Site of the store', 'best another one'],
  folder: ['Folder of the store', 'whole path, on this server'],
  restoreHost: ['Host to restore on', 'where this server may start an engine'],
  restoreFolder: ['Folder for restored instances', 'whole path, on this server'],
  objective: ['Objective', 'empty for none yet'],
  rate: ['Most a backup may take', 'MB a second; empty for all it can'],
};

/** Two steps: look at a cluster with what its role may see, then say where its copies go. */
export function AddCluster({ onAdded }: { onAdded: () => void }) {
  const queries = useQueryClient();
  const [said, setSaid] = useState(empty);
  const reach = {
    address: said.address,
    port: Number(said.port),
    user: said.user,
    signInTo: said.signInTo || null,
    credential: said.credential || null,
  };
  const look = useMutation({ mutationFn: () => got(api.POST('/api/clusters/look', { body: reach })) });
  const add = useMutation({
    mutationFn: () =>
      got(
        api.POST('/api/clusters', {
          body: {
            ...reach,
            database: said.database,
            name: null,
            site: said.site,
            host: null,
            store: said.store,
            storeSite: said.storeSite || null,
            folder: said.folder || null,
            restoreHost: said.restoreHost,
            restoreFolder: said.restoreFolder || null,
            objective: said.objective || null,
            logRoomBytes: null,
            backupBytesPerSecond: said.rate ? Math.round(Number(said.rate) * 1e6) : null,
          },
        }),
      ),
    onSuccess: async () => {
      await queries.invalidateQueries();
      onAdded();
    },
  });
  const error = add.error ?? look.error;
  const atFault = error instanceof ApiError ? error.member : undefined;
  const field = (key: keyof typeof empty, width = 190) => (
    <LabelledField
      key={key}
      words={labels[key]}
      value={said[key]}
      onChange={(value) => {
        setSaid({ ...said, [key]: value });
        if (key in reach) look.reset();
      }}
      atFault={atFault === (key === 'rate' ? 'backupBytesPerSecond' : key)}
      width={width}
    />
  );
  const seen = look.data;
  return (
    <Box component="section" aria-label="Add a cluster" sx={{ border: 1, borderColor: 'divider', p: 1.5, mb: 2 }}>
      <Box
        component="form"
        onSubmit={(e) => {
          e.preventDefault();
          look.mutate();
        }}
        sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5, alignItems: 'flex-start' }}
      >
        {field('address', 170)}
        {field('port', 80)}
        {field('user', 210)}
        {field('signInTo', 170)}
        {field('credential', 300)}
        <Button type="submit" variant={seen ? 'outlined' : 'contained'} disabled={look.isPending || !said.user}>
          {look.isPending ? 'Looking…' : 'Look at it'}
        </Button>
      </Box>
      {error && (
        <Alert severity="error" variant="outlined" sx={{ mt: 1 }}>
          {error.message}
        </Alert>
      )}
      {seen && <Seen seen={seen} />}
      {seen && seen.lacks.length === 0 && (
        <Box
          component="form"
          onSubmit={(e) => {
            e.preventDefault();
            add.mutate();
          }}
          sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5, alignItems: 'flex-start', mt: 2 }}
        >
          {(['database', 'site', 'store', 'storeSite'] as const).map((k) => field(k))}
          {field('folder', 300)}
          {field('restoreHost', 240)}
          {field('restoreFolder', 300)}
          {field('objective')}
          {field('rate', 220)}
          <Button type="submit" variant="contained" disabled={add.isPending}>
            {add.isPending ? 'Adding…' : 'Add it'}
          </Button>
        </Box>
      )}
    </Box>
  );
}

/** What was seen, what is in the way, and what the role may not see. */
function Seen({ seen }: { seen: Schemas['DiscoveredView'] }) {
  const groups = [...new Set(seen.facts.map((f) => f.group))];
  return (
    <Box aria-label="What was seen" component="section" sx={{ mt: 1.5 }}>
      <Box sx={{ mb: 1 }}>
        Version <b>{seen.version}</b>, <b>{bytes(seen.sizeBytes)}</b>, writes <b>{bytes(seen.logBytesPerSecond)}</b> of
        log a second, stands at <code>{seen.position}</code>.
      </Box>
      {seen.lacks.length > 0 && (
        <Alert severity="error" variant="outlined" icon={false} sx={{ mb: 1 }}>
          <b>It cannot be protected yet:</b>
          <ul style={{ margin: 0, paddingLeft: 18 }}>
            {seen.lacks.map((l) => (
              <li key={l}>{l}</li>
            ))}
          </ul>
        </Alert>
      )}
      {seen.unseen.length > 0 && (
        <Alert severity="warning" variant="outlined" icon={false} sx={{ mb: 1 }}>
          This role does not see: {seen.unseen.join('; ')}
        </Alert>
      )}
      <Box
        sx={{
          columns: '3 260px',
          columnGap: 3,
          fontSize: 12.5,
          maxHeight: 260,
          overflow: 'auto',
          borderTop: 1,
          borderColor: 'divider',
          pt: 1,
        }}
      >
        {groups.map((g) => (
          <Box key={g} sx={{ breakInside: 'avoid-column', mb: 1 }}>
            <Box sx={{ color: 'text.secondary' }}>{g}</Box>
            {seen.facts
              .filter((f) => f.group === g)
              .map((f) => (
                <Box key={f.name} sx={{ display: 'flex', justifyContent: 'space-between', gap: 1 }}>
                  <span>{f.name}</span>
                  <Box component="span" sx={{ textAlign: 'right', overflowWrap: 'anywhere' }}>
                    {f.value}
                  </Box>
                </Box>
              ))}
          </Box>
        ))}
      </Box>
    </Box>
  );
}
