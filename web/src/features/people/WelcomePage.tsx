import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got } from '../../api/client';
import { PasswordField } from './PasswordField';

/** Where a one-time address leads: one sets one's password, and who comes first of all the name to administer by. */
export default function WelcomePage() {
  const [code] = useState(() => location.hash.slice(1));
  const [name, setName] = useState('admin');
  const [displayName, setDisplayName] = useState('');
  const [password, setPassword] = useState('');
  const invited = useQuery({
    queryKey: ['welcome', code],
    retry: false,
    staleTime: Infinity,
    queryFn: () => got(api.POST('/api/welcome/look', { body: { code } })),
  });
  const set = useMutation({
    mutationFn: async () => {
      const own = invited.data!.name === null ? { name, displayName: displayName || null } : {};
      const made = await got(
        api.POST('/api/welcome', { body: { code, password, name: null, displayName: null, ...own } }),
      );
      await got(api.POST('/api/sign-in', { body: { name: made.name, password } }));
    },
    onSuccess: () => location.assign('/'),
  });
  const first = invited.data?.name === null;
  return (
    <Box component="main" sx={{ minHeight: '100dvh', display: 'grid', placeItems: 'center', p: 3 }}>
      <Box
        component="form"
        onSubmit={(e) => {
          e.preventDefault();
          set.mutate();
        }}
        sx={{ width: '100%', maxWidth: 420, display: 'flex', flexDirection: 'column', gap: 2 }}
      >
        <h1 style={{ fontSize: 24, margin: 0 }}>
          {invited.data && !first ? `Welcome, ${invited.data.displayName}` : 'Welcome to Imbrek'}
        </h1>
        {invited.isPending && 'Looking at the address…'}
        {invited.error && (
          <Alert severity="error" variant="outlined">
            {invited.error.message}
          </Alert>
        )}
        {invited.data && (
          <>
            <div>
              {first
                ? 'Nobody administers this installation yet. Choose a name to sign in by and a password; this address works once.'
                : `You sign in as ${invited.data.name}. Choose a password; this address works once.`}
            </div>
            {first && (
              <>
                <TextField
                  label="Name"
                  autoComplete="username"
                  value={name}
                  onChange={(e) => setName(e.target.value)}
                  required
                />
                <TextField
                  label="What people call you"
                  value={displayName}
                  onChange={(e) => setDisplayName(e.target.value)}
                />
              </>
            )}
            <PasswordField anew value={password} onChange={setPassword} />
            {set.error && (
              <Alert severity="error" variant="outlined">
                {set.error.message}
              </Alert>
            )}
            <Button type="submit" variant="contained" size="large" disabled={set.isPending}>
              Set it and sign in
            </Button>
          </>
        )}
      </Box>
    </Box>
  );
}
