import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { nowMs } from '../../app/live';
import { useMay } from '../../app/session';
import { Failure } from '../../shared/Failure';
import { bytes, duration } from '../../shared/format';
import { AddCluster } from './AddCluster';
import { AddStandby } from './AddStandby';

/** The real clusters: how far their log has come, and what their sources keep for us. */
export function ClustersPanel() {
  const administers = useMay('administer');
  const queries = useQueryClient();
  const clusters = useQuery({
    queryKey: ['clusters'],
    queryFn: () => got(api.GET('/api/clusters')),
    refetchInterval: 1000,
  });
  const [adding, setAdding] = useState(false);
  const remove = useMutation({
    mutationFn: (id: string) => got(api.DELETE('/api/clusters/{id}', { params: { path: { id } } })),
    onSettled: () => queries.invalidateQueries({ queryKey: ['clusters'] }),
  });
  if (clusters.error) return <Failure error={clusters.error} />;
  const all = clusters.data ?? [];
  return (
    <Box component="section" aria-label="Clusters" sx={{ mb: 3 }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 2, mb: 1 }}>
        <h2 style={{ fontSize: 15, margin: 0 }}>Clusters</h2>
        {administers && (
          <Button variant="outlined" onClick={() => setAdding(!adding)} aria-expanded={adding}>
            {adding ? 'Close' : 'Add a cluster'}
          </Button>
        )}
      </Box>
      {adding && <AddCluster onAdded={() => setAdding(false)} />}
      {clusters.isSuccess && all.length === 0 && (
        <Box sx={{ color: 'text.secondary' }}>
          None yet. Add one, and its log is received from then on; a plan takes its fulls.
        </Box>
      )}
      {remove.error && (
        <Alert severity="error" variant="outlined">
          {remove.error.message}
        </Alert>
      )}
      {remove.data?.notDone && (
        <Alert severity="warning" variant="outlined">
          {remove.data.notDone}
        </Alert>
      )}
      {all.map((c) => (
        <Cluster
          key={c.database}
          cluster={c}
          onRemove={administers ? () => remove.mutate(c.database) : undefined}
          busy={remove.isPending}
        />
      ))}
    </Box>
  );
}

function Cluster({
  cluster: c,
  onRemove,
  busy,
}: {
  cluster: Schemas['ClusterView'];
  onRemove?: () => void;
  busy: boolean;
}) {
  const [sure, setSure] = useState(false);
  const [adding, setAdding] = useState(false);
  const behind = c.coversTo ? Math.max(0, (nowMs() - Date.parse(c.coversTo)) / 1000) : null;
  const part = Math.min(1, c.keptBytes / c.logRoomBytes);
  return (
    <Box
      sx={{
        display: 'grid',
        gridTemplateColumns: { xs: '1fr', md: '200px 1.2fr 1.2fr auto' },
        gap: 2,
        py: 1,
        borderTop: 1,
        borderColor: 'divider',
        alignItems: 'start',
      }}
      data-testid={`cluster-${c.database}`}
    >
      <Box>
        <Link to={`/databases/${c.database}`}>{c.name}</Link>
        <Box sx={{ color: 'text.secondary', fontSize: 12.5 }}>
          {c.address}:{c.port} as {c.user}
          {c.credential && `, credential ${c.credential}`}
        </Box>
        {c.keptOutBy && (
          <Box sx={{ fontSize: 12.5 }}>
            <b>Nobody gets in</b>, until <Link to={`/runs/${c.keptOutBy}`}>a run</Link> is over
          </Box>
        )}
      </Box>
      <Box>
        {c.problem ? (
          <Alert severity="error" variant="outlined" icon={false} sx={{ py: 0 }}>
            <b>Its log is not received.</b> {c.problem}
          </Alert>
        ) : (
          <>
            Received into <b>{c.store}</b> up to <code>{c.position ?? '…'}</code>
            {c.behindBytes > 0 && `, ${bytes(c.behindBytes)} behind`}
          </>
        )}
        {behind !== null && (
          <Box sx={{ color: 'text.secondary', fontSize: 12.5 }}>
            everything committed until <b>{duration(behind)}</b> ago; timeline {c.timeline}
          </Box>
        )}
      </Box>
      <Box>
        The source keeps {bytes(c.keptBytes)} of log for us, at most {bytes(c.logRoomBytes)}
        <Box
          role="img"
          aria-label={`${Math.round(part * 100)} % of what it may keep`}
          sx={{ height: 5, mt: 0.5, border: 1, borderColor: 'divider', borderRadius: 1, overflow: 'hidden' }}
        >
          <Box sx={{ height: 1, width: part, bgcolor: part > 0.5 ? 'warning.main' : 'primary.main' }} />
        </Box>
        <Box sx={{ color: 'text.secondary', fontSize: 12.5 }}>
          slot <code>{c.slot}</code>
        </Box>
      </Box>
      {onRemove && (
        <Button
          color={sure ? 'error' : 'inherit'}
          variant="outlined"
          disabled={busy}
          onClick={() => (sure ? onRemove() : setSure(true))}
          onBlur={() => setSure(false)}
          title="Its log is received no more and our slot is removed; its backups stay"
        >
          {sure ? 'Yes, receive no more' : 'Receive no more'}
        </Button>
      )}
      {(c.standbys.length > 0 || onRemove) && (
        <Box sx={{ gridColumn: '1 / -1', display: 'flex', flexWrap: 'wrap', alignItems: 'center', columnGap: 2 }}>
          {c.standbys.length > 0 && (
            <span>
              Standbys:{' '}
              {c.standbys.map((s) => (
                <Standby key={s.replica} standby={s} cluster={c.database} administers={onRemove !== undefined} />
              ))}
            </span>
          )}
          {onRemove && (
            <Button size="small" onClick={() => setAdding(!adding)} aria-expanded={adding}>
              {adding ? 'Close' : 'Watch a standby of it'}
            </Button>
          )}
        </Box>
      )}
      {adding && <AddStandby cluster={c.database} onAdded={() => setAdding(false)} />}
    </Box>
  );
}

/** A standby that is watched; to watch it no more is said twice. */
function Standby({
  standby: s,
  cluster,
  administers,
}: {
  standby: Schemas['StandbyView'];
  cluster: string;
  administers: boolean;
}) {
  const queries = useQueryClient();
  const [sure, setSure] = useState(false);
  const remove = useMutation({
    mutationFn: () =>
      got(
        api.DELETE('/api/clusters/{id}/standbys/{replica}', {
          params: { path: { id: cluster, replica: s.replica } },
        }),
      ),
    onSettled: () => queries.invalidateQueries(),
  });
  return (
    <Box component="span" sx={{ mr: 2 }}>
      <Link to={`/replicas/${s.replica}`}>{s.replica}</Link>{' '}
      <Box component="span" sx={{ color: 'text.secondary', fontSize: 12.5 }}>
        {s.address}:{s.port}
      </Box>
      {administers && (
        <Button
          size="small"
          color={sure ? 'error' : 'inherit'}
          disabled={remove.isPending}
          onClick={() => (sure ? remove.mutate() : setSure(true))}
          onBlur={() => setSure(false)}
          title="It counts for nothing from then on; nothing is done to its engine"
        >
          {sure ? 'Yes, watch no more' : 'Watch no more'}
        </Button>
      )}
      {remove.error && <Box sx={{ color: 'verdict.breached' }}>{remove.error.message}</Box>}
    </Box>
  );
}
