import Alert from '@mui/material/Alert';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import TextField from '@mui/material/TextField';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api } from '../../api/client';
import { nowMs } from '../../app/live';
import { readLocal, utc, writeLocal } from '../../shared/format';

/** Notes what went wrong and when, so that one can go back to just before. */
export function IncidentForm(props: {
  database: string;
  zone: string;
  open: boolean;
  at: number | null;
  onClose: () => void;
}) {
  return (
    <Dialog open={props.open} onClose={props.onClose} fullWidth maxWidth="sm" aria-labelledby="incident-title">
      {props.open && <Body {...props} />}
    </Dialog>
  );
}

function Body({
  database,
  zone,
  at,
  onClose,
}: {
  database: string;
  zone: string;
  at: number | null;
  onClose: () => void;
}) {
  const queries = useQueryClient();
  const [title, setTitle] = useState('');
  const [text, setText] = useState(() => writeLocal(Math.floor((at ?? nowMs()) / 1000) * 1000, zone));
  const ms = readLocal(text, zone);
  const note = useMutation({
    mutationFn: () => api.POST('/api/incidents', { body: { database, title, at: utc(ms!) } }),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ['database', database] });
      onClose();
    },
  });
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        if (ms !== null) note.mutate();
      }}
    >
      <DialogTitle id="incident-title">Note an incident</DialogTitle>
      <DialogContent sx={{ display: 'flex', flexDirection: 'column', gap: 2, pt: '8px !important' }}>
        <TextField
          label="What happened"
          value={title}
          onChange={(e) => setTitle(e.target.value)}
          required
          slotProps={{ htmlInput: { maxLength: 200 } }}
        />
        <TextField
          label={`When it began, local time (${zone}) or UTC`}
          value={text}
          onChange={(e) => setText(e.target.value)}
          error={ms === null}
          helperText={ms === null ? 'Write it as 2026-11-23 07:40' : utc(ms)}
        />
        {note.error && (
          <Alert severity="error" variant="outlined">
            {note.error.message}
          </Alert>
        )}
      </DialogContent>
      <DialogActions>
        <Button onClick={onClose}>Leave it</Button>
        <Button type="submit" variant="contained" disabled={!title.trim() || ms === null || note.isPending}>
          Note it
        </Button>
      </DialogActions>
    </form>
  );
}
