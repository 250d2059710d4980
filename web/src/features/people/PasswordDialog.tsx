import Alert from '@mui/material/Alert';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got } from '../../api/client';
import { PasswordField } from './PasswordField';

/** Changes one's own password; whoever else is signed in with the old one is not any more. */
export function PasswordDialog({ onClose }: { onClose: () => void }) {
  const [current, setCurrent] = useState('');
  const [wanted, setWanted] = useState('');
  const change = useMutation({
    mutationFn: () => got(api.POST('/api/me/password', { body: { current, wanted } })),
  });
  return (
    <Dialog open onClose={onClose} aria-labelledby="password-title" fullWidth maxWidth="xs">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          change.mutate();
        }}
      >
        <DialogTitle id="password-title">Your password</DialogTitle>
        <DialogContent sx={{ display: 'flex', flexDirection: 'column', gap: 2, pt: '8px !important' }}>
          {change.isSuccess ? (
            'It is changed. Other browsers you were signed in with are signed out.'
          ) : (
            <>
              <PasswordField label="Password now" value={current} onChange={setCurrent} />
              <PasswordField label="New password" anew value={wanted} onChange={setWanted} />
              {change.error && (
                <Alert severity="error" variant="outlined">
                  {change.error.message}
                </Alert>
              )}
            </>
          )}
        </DialogContent>
        <DialogActions>
          <Button color="inherit" onClick={onClose}>
            {change.isSuccess ? 'Close' : 'Keep the old one'}
          </Button>
          {!change.isSuccess && (
            <Button type="submit" variant="contained" disabled={change.isPending}>
              Change it
            </Button>
          )}
        </DialogActions>
      </form>
    </Dialog>
  );
}
