import Autocomplete from '@mui/material/Autocomplete';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import FormControlLabel from '@mui/material/FormControlLabel';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got } from '../../api/client';
import { useGo } from '../../app/premise';
import { localTime, readLocal, utc } from '../../shared/format';
import { kindWord, makesSet } from '../plans/draft';

export interface Askable {
  plan: string;
  task: string;
  kind: string;
}

/** Asks for one run of a task, now or at a time; a state taken so stands outside the chain unless one says otherwise. */
export function AskForRun({ tasks, databases, zone }: { tasks: Askable[]; databases: string[]; zone: string }) {
  const go = useGo();
  const [index, setIndex] = useState(0);
  const [database, setDatabase] = useState(databases[0] ?? '');
  const [when, setWhen] = useState('');
  const task = tasks[index]!;
  const canStandAside = makesSet(task.kind) && task.kind !== 'log';
  const [aside, setAside] = useState(true);
  const at = when.trim() === '' ? null : readLocal(when, zone);
  const wrong = when.trim() !== '' && at === null;
  const ask = useMutation({
    mutationFn: () =>
      got(
        api.POST('/api/runs', {
          body: {
            plan: task.plan,
            task: task.task,
            database,
            outsideChain: aside && canStandAside,
            at: at === null ? null : utc(at),
          },
        }),
      ),
  });
  return (
    <Box
      role="group"
      aria-label="Ask for a run"
      sx={{ display: 'flex', flexWrap: 'wrap', gap: 1, alignItems: 'start' }}
    >
      {tasks.length > 1 && (
        <TextField
          select
          label="Run"
          value={index}
          onChange={(e) => setIndex(Number(e.target.value))}
          sx={{ width: 132 }}
        >
          {tasks.map((t, i) => (
            <MenuItem key={t.plan + t.task} value={i}>
              {t.task === kindWord[t.kind]?.toLowerCase() ? kindWord[t.kind] : t.task}
            </MenuItem>
          ))}
        </TextField>
      )}
      {databases.length > 1 && (
        <Autocomplete
          size="small"
          disableClearable
          options={databases}
          value={database}
          onChange={(_, d) => setDatabase(d)}
          renderInput={(p) => <TextField {...p} label="On" />}
          sx={{ width: 180 }}
        />
      )}
      <TextField
        label="At"
        placeholder="now, or 2026-11-24 02:30"
        value={when}
        onChange={(e) => setWhen(e.target.value)}
        error={wrong}
        helperText={
          wrong ? 'such as 2026-11-24 02:30' : at !== null ? `${localTime(at, zone, false)} in ${zone}` : undefined
        }
        slotProps={{ inputLabel: { shrink: true } }}
        sx={{ width: 196 }}
      />
      {canStandAside && (
        <FormControlLabel
          control={<Checkbox size="small" checked={aside} onChange={(_, v) => setAside(v)} />}
          label="outside the chain"
          title="Later differentials do not build on it"
          sx={{ mr: 0 }}
        />
      )}
      <Button
        variant="outlined"
        onClick={() => ask.mutate(undefined, { onSuccess: (r) => go(`/runs/${r.id}`) })}
        disabled={wrong || database === '' || ask.isPending}
        sx={{ whiteSpace: 'nowrap' }}
      >
        {at === null ? 'Run now' : 'Run then'}
      </Button>
      {ask.error && <Box sx={{ color: 'error.main', width: '100%' }}>{ask.error.message}</Box>}
    </Box>
  );
}
