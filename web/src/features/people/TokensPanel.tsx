import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got } from '../../api/client';
import { useZone } from '../../app/places';
import { Failure } from '../../shared/Failure';
import { localDay, localTime, utc } from '../../shared/format';
import { OneTime } from './OneTime';
import { roleWords } from './PeoplePanel';

/** Tokens for scripts, and for what reads the metrics. */
export function TokensPanel() {
  const zone = useZone();
  const queries = useQueryClient();
  const tokens = useQuery({ queryKey: ['tokens'], queryFn: () => got(api.GET('/api/tokens')) });
  const [name, setName] = useState('');
  const [role, setRole] = useState('look');
  const [days, setDays] = useState('90');
  const [shown, setShown] = useState<string | null>(null);
  const after = () => queries.invalidateQueries({ queryKey: ['tokens'] });
  const make = useMutation({
    mutationFn: () => got(api.POST('/api/tokens', { body: { name, role, days: Number(days) } })),
    onSuccess: (made) => {
      setShown(made.token);
      setName('');
    },
    onSettled: after,
  });
  const revoke = useMutation({
    mutationFn: (id: string) => got(api.POST('/api/tokens/{id}/revoke', { params: { path: { id } } })),
    onSettled: after,
  });
  return (
    <Box
      component="section"
      aria-label="Tokens for scripts"
      sx={{ borderTop: 1, borderColor: 'divider', pt: 1.5, mb: 3 }}
    >
      <h2 style={{ fontSize: 15, margin: '0 0 4px' }}>Tokens for scripts</h2>
      <Box sx={{ color: 'text.secondary', mb: 1 }}>
        Sent as <code>Authorization: Bearer …</code>; they work on the API and on <code>/metrics</code>, never to sign
        in.
      </Box>
      <Box
        component="form"
        aria-label="Make a token"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
        sx={{ display: 'flex', flexWrap: 'wrap', alignItems: 'center', gap: 1.5, mb: 1 }}
      >
        <TextField label="What it is for" value={name} onChange={(e) => setName(e.target.value)} required />
        <TextField select label="It" value={role} onChange={(e) => setRole(e.target.value)} sx={{ width: 130 }}>
          {Object.entries(roleWords).map(([r, word]) => (
            <MenuItem key={r} value={r}>
              {word}
            </MenuItem>
          ))}
        </TextField>
        <TextField
          label="For so many days"
          value={days}
          onChange={(e) => setDays(e.target.value)}
          sx={{ width: 130 }}
        />
        <Button type="submit" variant="outlined" disabled={make.isPending}>
          Make a token
        </Button>
        {make.error && (
          <Alert severity="error" variant="outlined">
            {make.error.message}
          </Alert>
        )}
      </Box>
      {shown && <OneTime what="The token, shown this once" text={shown} onClose={() => setShown(null)} />}
      {tokens.error && <Failure error={tokens.error} />}
      {revoke.error && <Failure error={revoke.error} />}
      {(tokens.data ?? []).map((t) => (
        <Box
          key={t.id}
          sx={{
            display: 'grid',
            gridTemplateColumns: 'minmax(140px, 1fr) 100px 170px 220px 100px',
            gap: 1.5,
            alignItems: 'center',
            minHeight: 34,
            borderTop: 1,
            borderColor: 'divider',
            color: t.revokedAt ? 'text.secondary' : undefined,
          }}
        >
          <b>{t.name}</b>
          <span>{roleWords[t.role]}</span>
          <span title={utc(t.endsAt)}>{t.revokedAt ? 'revoked' : `until ${localDay(t.endsAt, zone)}`}</span>
          <Box sx={{ color: 'text.secondary' }}>
            {t.usedAt ? `last used ${localTime(t.usedAt, zone, false)}` : 'never used'}, by {t.madeBy}
          </Box>
          {t.revokedAt ? (
            <span />
          ) : (
            <Button color="error" onClick={() => revoke.mutate(t.id)}>
              Revoke
            </Button>
          )}
        </Box>
      ))}
    </Box>
  );
}
