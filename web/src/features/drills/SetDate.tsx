import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got } from '../../api/client';
import { useZone } from '../../app/places';
import { useGo } from '../../app/premise';
import { localTime, readLocal, utc } from '../../shared/format';

export interface Dated {
  of: 'database' | 'group' | 'service' | 'site';
  id: string | null;
  replica: string | null;
  kind: string;
  ending: string;
}

const names = (text: string) =>
  text
    .split(',')
    .map((n) => n.trim())
    .filter((n) => n !== '');

/** Gives a drill a date instead of beginning it now, and says who is told beforehand. */
export function SetDate({ drill }: { drill: Dated }) {
  const zone = useZone();
  const go = useGo();
  const queries = useQueryClient();
  const [open, setOpen] = useState(false);
  const [when, setWhen] = useState('');
  const [people, setPeople] = useState('');
  const [escalate, setEscalate] = useState('');
  const [why, setWhy] = useState('');
  const at = readLocal(when, zone);
  const set = useMutation({
    mutationFn: () =>
      got(
        api.POST('/api/drills/dated', {
          body: { ...drill, at: utc(at!), people: names(people), escalate: names(escalate), why: why.trim() || null },
        }),
      ),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ['drills', 'dated'] });
      go('/drills');
    },
  });
  if (!open)
    return (
      <Button variant="outlined" onClick={() => setOpen(true)}>
        Set a date
      </Button>
    );
  const wrong = when.trim() !== '' && at === null;
  return (
    <Box
      role="group"
      aria-label="Set a date"
      sx={{ display: 'flex', flexWrap: 'wrap', gap: 1, alignItems: 'start', width: '100%' }}
    >
      <TextField
        label="When"
        placeholder="2026-12-03 09:00"
        value={when}
        onChange={(e) => setWhen(e.target.value)}
        error={wrong}
        helperText={
          wrong ? 'such as 2026-12-03 09:00' : at !== null ? `${localTime(at, zone, false)} in ${zone}` : undefined
        }
        slotProps={{ inputLabel: { shrink: true } }}
        sx={{ width: 190 }}
      />
      <TextField
        label="Tell"
        placeholder="terminal operations, sales desk"
        value={people}
        onChange={(e) => setPeople(e.target.value)}
        helperText="now, the day before, and when it is not held"
        slotProps={{ inputLabel: { shrink: true } }}
        sx={{ width: 270 }}
      />
      <TextField
        label="If it is not held within a day, tell"
        value={escalate}
        onChange={(e) => setEscalate(e.target.value)}
        slotProps={{ inputLabel: { shrink: true } }}
        sx={{ width: 230 }}
      />
      <TextField
        label="What people should know"
        value={why}
        onChange={(e) => setWhy(e.target.value)}
        slotProps={{ inputLabel: { shrink: true } }}
        sx={{ width: 270 }}
      />
      <Button
        variant="contained"
        disabled={at === null || names(people).length === 0 || set.isPending}
        onClick={() => set.mutate()}
      >
        Set it
      </Button>
      {set.error && (
        <Alert severity="error" variant="outlined" sx={{ width: '100%' }}>
          {set.error.message}
        </Alert>
      )}
    </Box>
  );
}
