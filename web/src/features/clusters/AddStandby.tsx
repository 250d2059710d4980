import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ApiError, got, type Schemas } from '../../api/client';
import { bytes, duration } from '../../shared/format';
import { LabelledField } from './LabelledField';

const empty = { address: '127.0.0.1', port: '5432', replica: '', site: '', host: '' };

const labels: Record<keyof typeof empty, [string, string]> = {
  address: ['Address of the standby', 'name or address of its machine'],
  port: ['Port', ''],
  replica: ['What to call it', 'letters, digits, dot, dash'],
  site: ['Site it stands in', 'best not that of its primary'],
  host: ['Host', 'empty for its name with -host'],
};

/** Two steps: look at a standby from both sides, then name it and say where it stands. */
export function AddStandby({ cluster, onAdded }: { cluster: string; onAdded: () => void }) {
  const queries = useQueryClient();
  const [said, setSaid] = useState(empty);
  const body = {
    replica: said.replica || 'new',
    address: said.address,
    port: Number(said.port),
    user: null,
    credential: null,
    site: said.site || 'new',
    host: said.host || null,
    promoteSeconds: null,
    watchSeconds: null,
  };
  const of = { params: { path: { id: cluster } }, body };
  const look = useMutation({ mutationFn: () => got(api.POST('/api/clusters/{id}/standbys/look', of)) });
  const add = useMutation({
    mutationFn: () => got(api.POST('/api/clusters/{id}/standbys', of)),
    onSuccess: async () => {
      await queries.invalidateQueries();
      onAdded();
    },
  });
  const error = add.error ?? look.error;
  const atFault = error instanceof ApiError ? error.member : undefined;
  const field = (key: keyof typeof empty, width = 220) => (
    <LabelledField
      key={key}
      words={labels[key]}
      value={said[key]}
      onChange={(value) => {
        setSaid({ ...said, [key]: value });
        if (key === 'address' || key === 'port') look.reset();
      }}
      atFault={atFault === key}
      width={width}
    />
  );
  const seen = look.data;
  return (
    <Box component="section" aria-label={`Watch a standby of ${cluster}`} sx={{ gridColumn: '1 / -1', pb: 1 }}>
      <Box
        component="form"
        onSubmit={(e) => {
          e.preventDefault();
          if (seen?.lacks.length === 0) add.mutate();
          else look.mutate();
        }}
        sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5, alignItems: 'flex-start' }}
      >
        {field('address')}
        {field('port', 80)}
        {!seen && (
          <Button type="submit" variant="contained" disabled={look.isPending}>
            {look.isPending ? 'Looking…' : 'Look at it from both sides'}
          </Button>
        )}
        {seen?.lacks.length === 0 && (
          <>
            {field('replica')}
            {field('site')}
            {field('host')}
            <Button type="submit" variant="contained" disabled={add.isPending || !said.replica || !said.site}>
              {add.isPending ? 'Adding…' : 'Watch it'}
            </Button>
          </>
        )}
      </Box>
      {error && (
        <Alert severity="error" variant="outlined" sx={{ mt: 1 }}>
          {error.message}
        </Alert>
      )}
      {seen && <Seen seen={seen} />}
    </Box>
  );
}

/** What both sides say, and what is in the way. */
function Seen({ seen }: { seen: Schemas['StandbyFound'] }) {
  if (seen.lacks.length > 0)
    return (
      <Alert severity="error" variant="outlined" icon={false} sx={{ mt: 1 }}>
        <b>It cannot be watched as a standby:</b> {seen.lacks.join('; ')}
      </Alert>
    );
  return (
    <Box component="section" aria-label="What both sides say" sx={{ mt: 0.5 }}>
      {seen.mode === 'sync' ? 'Commits wait for it' : 'Commits do not wait for it'}; it{' '}
      {seen.delaySeconds > 0 ? (
        <>
          holds back what it received for <b>{duration(seen.delaySeconds)}</b>
        </>
      ) : (
        'applies what it received at once'
      )}
      . Fed by <b>{seen.from ?? 'the primary'}</b>, its receiver is {seen.receiver};{' '}
      {seen.slot ? (
        <>
          by slot <code>{seen.slot}</code>
        </>
      ) : (
        'without a slot'
      )}
      , its source keeps {seen.keepLogBytes == null ? 'as much log as it needs' : `at most ${bytes(seen.keepLogBytes)}`}{' '}
      for it.
    </Box>
  );
}
