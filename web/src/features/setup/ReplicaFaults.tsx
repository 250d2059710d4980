import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import FormControlLabel from '@mui/material/FormControlLabel';
import MenuItem from '@mui/material/MenuItem';
import Switch from '@mui/material/Switch';
import TextField from '@mui/material/TextField';
import { useState } from 'react';
import { api, type Schemas } from '../../api/client';

type World = Schemas['WorldView'];
type Fault = Schemas['ReplicaFault'];

/** What goes wrong with hosts, their clocks, and replicas of the simulated world. */
export function ReplicaFaults({ world, act }: { world: World; act: (what: () => Promise<unknown>) => void }) {
  const [id, setId] = useState('');
  const replica = world.replicas.find((r) => r.id === id) ?? world.replicas[0];
  const set = (fault: Fault, on: boolean) =>
    replica && act(() => api.POST('/api/world/replica', { body: { replica: replica.id, fault, on, seconds: null } }));
  return (
    <Box
      sx={{ display: 'grid', gridTemplateColumns: { xs: '1fr', md: '2fr 1.3fr' }, gap: 3, mt: 2 }}
      data-testid="replica-faults"
    >
      <Box>
        <h3 style={{ margin: 0, fontSize: 13 }}>Hosts and their clocks</h3>
        <Box sx={{ columnCount: { xs: 1, sm: 2 }, columnGap: 3 }}>
          {world.hosts.map((h) => (
            <Box
              key={h.id}
              sx={{
                display: 'grid',
                gridTemplateColumns: '1fr auto auto',
                alignItems: 'center',
                gap: 1,
                breakInside: 'avoid',
                borderTop: 1,
                borderColor: 'divider',
              }}
            >
              <span>
                {h.id}{' '}
                <Box component="span" sx={{ color: 'text.secondary' }}>
                  {h.site}
                </Box>
              </span>
              <Button
                size="small"
                onClick={() =>
                  act(() =>
                    api.POST('/api/world/clock', { body: { host: h.id, secondsAhead: h.clockSeconds === 0 ? 90 : 0 } }),
                  )
                }
              >
                {h.clockSeconds === 0 ? 'clock is right' : `clock ${h.clockSeconds} s ahead`}
              </Button>
              <span>
                down
                <Switch
                  size="small"
                  checked={h.down}
                  onChange={(_, down) => act(() => api.POST('/api/world/host-down', { body: { host: h.id, down } }))}
                  slotProps={{ input: { 'aria-label': `${h.id} is down` } }}
                />
              </span>
            </Box>
          ))}
        </Box>
      </Box>
      {replica && (
        <Box sx={{ display: 'flex', flexDirection: 'column', gap: 1 }}>
          <h3 style={{ margin: 0, fontSize: 13 }}>One replica</h3>
          <TextField select label="Replica" value={replica.id} onChange={(e) => setId(e.target.value)}>
            {world.replicas.map((r) => (
              <MenuItem key={r.id} value={r.id}>
                {r.id}
              </MenuItem>
            ))}
          </TextField>
          <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 2 }}>
            {(
              [
                ['applyStopped', replica.applyStopped, 'applying stopped'],
                ['reader', replica.read, 'a reader holds it for an hour'],
                ['signInExpired', replica.signInExpired, 'its sign-in expired'],
              ] as const
            ).map(([fault, on, words]) => (
              <FormControlLabel
                key={fault}
                control={<Switch size="small" checked={on} onChange={(_, value) => set(fault, value)} />}
                label={words}
              />
            ))}
          </Box>
          <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1 }}>
            <Button variant="outlined" disabled={replica.unusable !== null} onClick={() => set('logVolumeFull', true)}>
              Fill its log volume
            </Button>
            <Button variant="outlined" onClick={() => set('diverged', true)}>
              Write a row in it; nobody is told
            </Button>
          </Box>
          {replica.unusable && <Box sx={{ color: 'text.secondary' }}>Cannot be used: {replica.unusable}.</Box>}
        </Box>
      )}
    </Box>
  );
}
