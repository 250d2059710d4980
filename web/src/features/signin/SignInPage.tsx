import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import { useState } from 'react';
import { api } from '../../api/client';
import { PasswordField } from '../people/PasswordField';

/** Asks who one is. */
export function SignInPage({ onSignedIn }: { onSignedIn: () => void }) {
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  const [error, setError] = useState<string | null>(null);
  const [busy, setBusy] = useState(false);
  const submit = async () => {
    setBusy(true);
    setError(null);
    try {
      await api.POST('/api/sign-in', { body: { name, password } });
      onSignedIn();
    } catch (e) {
      setError((e as Error).message);
    } finally {
      setBusy(false);
    }
  };
  return (
    <Box
      component="main"
      sx={{ minHeight: '100dvh', display: 'grid', gridTemplateColumns: { xs: '1fr', md: '1.2fr 1fr' } }}
    >
      <Box
        sx={{
          display: { xs: 'none', md: 'flex' },
          flexDirection: 'column',
          justifyContent: 'center',
          px: 8,
          borderRight: 1,
          borderColor: 'divider',
        }}
      >
        <RoofPicture />
        <Box component="p" sx={{ fontSize: 22, maxWidth: 520, lineHeight: 1.35, mt: 4, fontWeight: 500 }}>
          What could we lose, how soon would we be back, and how do we know?
        </Box>
        <Box component="p" sx={{ color: 'text.secondary', maxWidth: 480, m: 0 }}>
          Backups overlap like roof tiles. Where they do, nothing gets in. Where they do not, Imbrek shows the gap and
          its reason.
        </Box>
      </Box>
      <Box sx={{ bgcolor: 'background.paper', display: 'flex', alignItems: 'center', px: { xs: 3, md: 8 } }}>
        <Box
          component="form"
          onSubmit={(e) => {
            e.preventDefault();
            void submit();
          }}
          sx={{ width: '100%', maxWidth: 340, display: 'flex', flexDirection: 'column', gap: 2 }}
        >
          <h1 style={{ fontSize: 24, margin: 0 }}>Imbrek</h1>
          <TextField
            label="Name"
            autoComplete="username"
            value={name}
            onChange={(e) => setName(e.target.value)}
            required
            slotProps={{ htmlInput: { autoCapitalize: 'none' } }}
          />
          <PasswordField value={password} onChange={setPassword} />
          {error && (
            <Alert severity="error" variant="outlined">
              {error}
            </Alert>
          )}
          <Button type="submit" variant="contained" size="large" disabled={busy}>
            Sign in
          </Button>
        </Box>
      </Box>
    </Box>
  );
}

function RoofPicture() {
  const tile = (x: number, y: number, w: number, o: number) => (
    <rect key={`${x}-${y}`} x={x} y={y} width={w} height={26} fill="var(--mui-palette-primary-main)" opacity={o} />
  );
  return (
    <svg viewBox="0 0 520 150" width="100%" style={{ maxWidth: 520 }} aria-hidden>
      {Array.from({ length: 9 }, (_, i) => tile(i * 56, 92, 66, 0.42 + (i % 3) * 0.12))}
      {Array.from({ length: 4 }, (_, i) => tile(20 + i * 120, 56, 96, 0.7))}
      {tile(20, 16, 18, 1)}
      {tile(260, 16, 18, 1)}
      <path d="M0 136H392M438 136h82" stroke="var(--mui-palette-text-primary)" strokeWidth="3" />
      <path d="M394 128v16M436 128v16" stroke="var(--mui-palette-verdict-breached)" strokeWidth="2" />
    </svg>
  );
}
