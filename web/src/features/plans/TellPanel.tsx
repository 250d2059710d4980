import Autocomplete from '@mui/material/Autocomplete';
import Box from '@mui/material/Box';
import Checkbox from '@mui/material/Checkbox';
import FormControlLabel from '@mui/material/FormControlLabel';
import TextField from '@mui/material/TextField';
import { readSpan, spanWords, type PlanDraft } from './draft';
import { Typed } from './fields';

type Tell = PlanDraft['tell'];

/** Who is told, and of what. */
export function TellPanel({ tell, onChange }: { tell: Tell; onChange: (tell: Tell) => void }) {
  const of = (label: string, key: 'failure' | 'lateness' | 'recovery') => (
    <FormControlLabel
      control={<Checkbox size="small" checked={tell[key]} onChange={(_, on) => onChange({ ...tell, [key]: on })} />}
      label={label}
    />
  );
  return (
    <Box component="section" aria-label="Who is told" sx={{ mt: 2 }}>
      <h2 style={{ fontSize: 15, margin: '0 0 6px' }}>Who is told</h2>
      <Box sx={{ display: 'flex', gap: 1.5, alignItems: 'center', flexWrap: 'wrap' }}>
        <Autocomplete
          multiple
          freeSolo
          autoSelect
          options={[]}
          value={tell.people}
          onChange={(_, people) => onChange({ ...tell, people })}
          sx={{ minWidth: 300, flex: 1, maxWidth: 480 }}
          renderInput={(p) => (
            <TextField
              {...p}
              label="People or groups"
              placeholder={tell.people.length === 0 ? 'nobody yet' : ''}
              slotProps={{ ...p.slotProps, inputLabel: { ...p.slotProps?.inputLabel, shrink: true } }}
            />
          )}
        />
        {of('Failures', 'failure')}
        {of('Lateness', 'lateness')}
        {of('First success after a failure', 'recovery')}
        <Box sx={{ width: 150 }}>
          <Typed
            label="Silence for"
            value={spanWords(tell.silenceSeconds)}
            read={readSpan}
            hint="such as 26 h"
            onChange={(silenceSeconds) => onChange({ ...tell, silenceSeconds })}
          />
        </Box>
      </Box>
    </Box>
  );
}
