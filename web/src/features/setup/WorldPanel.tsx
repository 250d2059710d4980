import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import FormControlLabel from '@mui/material/FormControlLabel';
import MenuItem from '@mui/material/MenuItem';
import Switch from '@mui/material/Switch';
import TextField from '@mui/material/TextField';
import ToggleButton from '@mui/material/ToggleButton';
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got } from '../../api/client';
import { useClock } from '../../app/live';
import { useZone } from '../../app/places';
import { DatabaseField } from '../../shared/DatabaseField';
import { Failure } from '../../shared/Failure';
import { bytes, localTime } from '../../shared/format';
import { ReplicaFaults } from './ReplicaFaults';

/** The simulated world: its pace, and what goes wrong in it. */
export function WorldPanel() {
  const zone = useZone();
  const clock = useClock();
  const queries = useQueryClient();
  const world = useQuery({ queryKey: ['world'], queryFn: () => got(api.GET('/api/world')), refetchInterval: 3000 });
  const act = useMutation({
    mutationFn: (what: () => Promise<unknown>) => what(),
    onSettled: () => queries.invalidateQueries({ queryKey: ['world'] }),
  });
  const [database, setDatabase] = useState('tickets');
  const sets = useQuery({
    queryKey: ['database', database, 'sets', 'newest'],
    queryFn: async () => {
      const page = await got(
        api.GET('/api/databases/{id}/sets', { params: { path: { id: database }, query: { take: 200 } } }),
      );
      return page.sets.filter((s) => s.copies.some((c) => !c.removedAt)).slice(0, 40);
    },
  });
  const [copy, setCopy] = useState('');
  if (world.error) return <Failure error={world.error} />;
  const w = world.data;
  return (
    <Box component="section" sx={{ mb: 3 }}>
      <h2 style={{ fontSize: 15, margin: '0 0 8px' }}>The simulated world</h2>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, flexWrap: 'wrap', mb: 1.5 }}>
        <ToggleButtonGroup
          size="small"
          exclusive
          value={clock?.pace ?? null}
          onChange={(_, pace: number | null) =>
            pace !== null && act.mutate(() => api.POST('/api/world/pace', { body: { pace } }))
          }
          aria-label="Pace"
        >
          {(
            [
              [0, 'Paused'],
              [1, 'Real pace'],
              [60, '60 times'],
              [900, '900 times'],
            ] as const
          ).map(([p, word]) => (
            <ToggleButton key={p} value={p} sx={{ textTransform: 'none', py: 0.25 }}>
              {word}
            </ToggleButton>
          ))}
        </ToggleButtonGroup>
        <Button variant="outlined" onClick={() => act.mutate(() => api.POST('/api/world/next'))}>
          To the next event
        </Button>
        {[60, 1440].map((minutes) => (
          <Button
            key={minutes}
            variant="outlined"
            disabled={act.isPending}
            onClick={() => act.mutate(() => api.POST('/api/world/forward', { body: { minutes } }))}
          >
            Forward {minutes === 60 ? 'an hour' : 'a day'}
          </Button>
        ))}
        {w?.nextEvent && <Box sx={{ color: 'text.secondary' }}>Next event {localTime(w.nextEvent, zone)}</Box>}
      </Box>
      {act.error && (
        <Alert severity="error" variant="outlined" sx={{ mb: 1 }}>
          {act.error.message}
        </Alert>
      )}
      <Box sx={{ display: 'grid', gridTemplateColumns: { xs: '1fr', md: '1fr 1.5fr 1.3fr' }, gap: 3 }}>
        <Box>
          <h3 style={{ margin: 0, fontSize: 13 }}>Stores</h3>
          {w?.stores.map((s) => (
            <Box
              key={s.id}
              sx={{
                display: 'flex',
                alignItems: 'center',
                justifyContent: 'space-between',
                borderTop: 1,
                borderColor: 'divider',
              }}
            >
              <span>
                {s.id}{' '}
                <Box component="span" sx={{ color: 'text.secondary' }}>
                  {s.site}
                  {s.offline && ', offline'}
                </Box>
              </span>
              <span>
                full
                <Switch
                  size="small"
                  checked={s.full}
                  onChange={(_, full) =>
                    act.mutate(() => api.POST('/api/world/store-full', { body: { store: s.id, full } }))
                  }
                  slotProps={{ input: { 'aria-label': `${s.id} is full` } }}
                />
              </span>
            </Box>
          ))}
        </Box>
        <Box>
          <h3 style={{ margin: 0, fontSize: 13 }}>Links</h3>
          {w?.links.map((l) => (
            <Box
              key={l.one + l.other}
              sx={{
                display: 'flex',
                alignItems: 'center',
                justifyContent: 'space-between',
                borderTop: 1,
                borderColor: 'divider',
              }}
            >
              <span>
                {l.one} – {l.other}
                <Box component="span" sx={{ color: 'text.secondary', display: 'block' }}>
                  {`${bytes(l.slowBytesPerSecond ?? l.bytesPerSecond)}/s`}
                  {l.slowBytesPerSecond !== null && `, of ${bytes(l.bytesPerSecond)}/s`}
                </Box>
              </span>
              <span>
                <Button
                  size="small"
                  onClick={() =>
                    act.mutate(() =>
                      api.POST('/api/world/link-slow', {
                        body: {
                          one: l.one,
                          other: l.other,
                          bytesPerSecond: l.slowBytesPerSecond === null ? l.bytesPerSecond / 1000 : null,
                        },
                      }),
                    )
                  }
                >
                  {l.slowBytesPerSecond === null ? 'slow it' : 'as before'}
                </Button>
                flaps
                <Switch
                  size="small"
                  checked={l.flaps}
                  onChange={(_, flaps) =>
                    act.mutate(() => api.POST('/api/world/link-flaps', { body: { one: l.one, other: l.other, flaps } }))
                  }
                  slotProps={{ input: { 'aria-label': `${l.one} to ${l.other} comes and goes` } }}
                />
                down
                <Switch
                  size="small"
                  checked={l.down}
                  onChange={(_, down) =>
                    act.mutate(() => api.POST('/api/world/link-down', { body: { one: l.one, other: l.other, down } }))
                  }
                  slotProps={{ input: { 'aria-label': `${l.one} to ${l.other} is down` } }}
                />
              </span>
            </Box>
          ))}
        </Box>
        <Box sx={{ display: 'flex', flexDirection: 'column', gap: 1.25 }}>
          <FormControlLabel
            control={
              <Switch
                size="small"
                checked={w?.namesSlow ?? false}
                onChange={(_, slow) => act.mutate(() => api.POST('/api/world/names-slow', { body: { slow } }))}
              />
            }
            label="names are answered slowly"
          />
          <h3 style={{ margin: 0, fontSize: 13 }}>One database</h3>
          <DatabaseField
            id={database}
            onPick={(id) => {
              setDatabase(id);
              setCopy('');
            }}
          />
          <Button
            variant="outlined"
            onClick={() => act.mutate(() => api.POST('/api/world/drop-log', { body: { database } }))}
          >
            Lose the log not yet backed up
          </Button>
          <Box sx={{ display: 'flex', gap: 2 }}>
            <FormControlLabel
              control={
                <Switch
                  size="small"
                  checked={w?.hanging.includes(database) ?? false}
                  onChange={(_, hangs) => act.mutate(() => api.POST('/api/world/hang', { body: { database, hangs } }))}
                />
              }
              label="backups hang"
            />
            <FormControlLabel
              control={
                <Switch
                  size="small"
                  checked={w?.signInExpired.includes(database) ?? false}
                  onChange={(_, expired) =>
                    act.mutate(() => api.POST('/api/world/sign-in', { body: { database, expired } }))
                  }
                />
              }
              label="sign-in expired"
            />
          </Box>
          <TextField select label="Copy" value={copy} onChange={(e) => setCopy(e.target.value)}>
            {(sets.data ?? []).flatMap((s) =>
              s.copies
                .filter((c) => !c.removedAt)
                .map((c) => (
                  <MenuItem key={`${s.id}@${c.store}`} value={`${s.id}@${c.store}`}>
                    {s.kind} {s.id} in {c.store}
                  </MenuItem>
                )),
            )}
          </TextField>
          <Button
            variant="outlined"
            disabled={!copy}
            onClick={() => {
              const [set = '', store = ''] = copy.split('@');
              act.mutate(() => api.POST('/api/world/damage-copy', { body: { database, set, store } }));
            }}
          >
            Damage this copy on disk; nobody is told
          </Button>
        </Box>
      </Box>
      {w && <ReplicaFaults world={w} act={act.mutate} />}
      <Box component="h3" sx={{ fontSize: 13, mb: 0.5 }}>
        What happened lately
      </Box>
      <Box
        tabIndex={0}
        role="region"
        aria-label="What happened lately"
        sx={{ maxHeight: 180, overflow: 'auto', borderTop: 1, borderColor: 'divider' }}
      >
        {w?.happenings.length === 0 && <Box sx={{ py: 1, color: 'text.secondary' }}>Nothing to tell.</Box>}
        {w?.happenings.map((h, i) => (
          <Box key={i} sx={{ display: 'grid', gridTemplateColumns: '170px 150px 1fr', gap: 1, py: 0.3 }}>
            <span>{localTime(h.at, zone)}</span>
            <span>{h.database}</span>
            <span>{h.text}</span>
          </Box>
        ))}
      </Box>
    </Box>
  );
}
