import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import FormControlLabel from '@mui/material/FormControlLabel';
import TextField from '@mui/material/TextField';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got, type Schemas } from '../../api/client';
import { Failure } from '../../shared/Failure';
import { OneTime } from './OneTime';

type Person = Schemas['PersonView'];
export const roleWords: Record<string, string> = {
  look: 'looks',
  operate: 'operates',
  plan: 'plans',
  approve: 'approves',
  administer: 'administers',
};

/** Who may sign in and what they may do; each change is in the ledger and ends the sessions of whom it concerns. */
export function PeoplePanel() {
  const queries = useQueryClient();
  const people = useQuery({ queryKey: ['people'], queryFn: () => got(api.GET('/api/people')) });
  const [adding, setAdding] = useState(false);
  const [invited, setInvited] = useState<{ name: string; path: string } | null>(null);
  const after = () => queries.invalidateQueries({ queryKey: ['people'] });
  const change = useMutation({
    mutationFn: (p: Person) =>
      got(
        api.PUT('/api/people/{name}', {
          params: { path: { name: p.name } },
          body: { displayName: p.displayName, roles: p.roles, disabled: p.disabled },
        }),
      ),
    onSettled: after,
  });
  const reset = useMutation({
    mutationFn: async (name: string) => ({
      name,
      path: (await got(api.POST('/api/people/{name}/reset', { params: { path: { name } } }))).path,
    }),
    onSuccess: setInvited,
    onSettled: after,
  });
  return (
    <Box component="section" aria-label="People" sx={{ borderTop: 1, borderColor: 'divider', pt: 1.5, mb: 3 }}>
      <Box sx={{ display: 'flex', alignItems: 'baseline', gap: 2, mb: 1 }}>
        <h2 style={{ fontSize: 15, margin: 0 }}>People</h2>
        <Button onClick={() => setAdding(!adding)} aria-expanded={adding}>
          Add somebody…
        </Button>
      </Box>
      {people.error && <Failure error={people.error} />}
      {(change.error ?? reset.error) && <Failure error={(change.error ?? reset.error)!} />}
      {adding && (
        <AddPerson
          onAdded={(name, path) => {
            setAdding(false);
            setInvited({ name, path });
            void after();
          }}
        />
      )}
      {invited && (
        <OneTime
          what={`Hand this address to ${invited.name}. It sets their password once, within two days, and is not shown again`}
          text={location.origin + invited.path}
          onClose={() => setInvited(null)}
        />
      )}
      {(people.data ?? []).map((p) => (
        <Box
          key={p.name}
          data-testid={`person-${p.name}`}
          sx={{
            display: 'grid',
            gridTemplateColumns: 'minmax(140px, 1fr) minmax(0, auto) 260px',
            gap: 1.5,
            alignItems: 'center',
            minHeight: 36,
            borderTop: 1,
            borderColor: 'divider',
          }}
        >
          <Box sx={{ minWidth: 0, overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: 'nowrap' }}>
            <b>{p.displayName}</b>{' '}
            <Box component="span" sx={{ color: 'text.secondary' }}>
              {p.name}
              {p.fromDemo && ', of the demo'}
            </Box>
          </Box>
          <RoleBoxes of={p.name} roles={p.roles} onChange={(roles) => change.mutate({ ...p, roles })} />
          <Box sx={{ display: 'flex', alignItems: 'center', justifyContent: 'flex-end', gap: 1 }}>
            <Box sx={{ color: p.disabled ? 'verdict.breached' : 'text.secondary', whiteSpace: 'nowrap' }}>
              {p.disabled ? 'may not sign in' : p.hasPassword ? '' : 'no password yet'}
            </Box>
            <Button onClick={() => reset.mutate(p.name)}>New password</Button>
            <Button
              color={p.disabled ? 'primary' : 'error'}
              onClick={() => change.mutate({ ...p, disabled: !p.disabled })}
            >
              {p.disabled ? 'Let in again' : 'Keep out'}
            </Button>
          </Box>
        </Box>
      ))}
    </Box>
  );
}

function RoleBoxes({ of, roles, onChange }: { of: string; roles: string[]; onChange: (roles: string[]) => void }) {
  return (
    <Box sx={{ display: 'flex', flexWrap: 'wrap' }}>
      {Object.entries(roleWords).map(([role, word]) => (
        <FormControlLabel
          key={role}
          label={word}
          sx={{ ml: 0, mr: 1.75, '& .MuiFormControlLabel-label': { ml: 0.25 } }}
          control={
            <Checkbox
              size="small"
              sx={{ p: 0.5 }}
              checked={roles.includes(role)}
              slotProps={{ input: { 'aria-label': `${of} ${word}` } }}
              onChange={(e) => onChange(e.target.checked ? [...roles, role] : roles.filter((r) => r !== role))}
            />
          }
        />
      ))}
    </Box>
  );
}

function AddPerson({ onAdded }: { onAdded: (name: string, path: string) => void }) {
  const [name, setName] = useState('');
  const [displayName, setDisplayName] = useState('');
  const [roles, setRoles] = useState(['look']);
  const add = useMutation({
    mutationFn: () => got(api.POST('/api/people', { body: { name, displayName: displayName || null, roles } })),
    onSuccess: (made) => onAdded(name, made.path),
  });
  return (
    <Box
      component="form"
      aria-label="Add somebody"
      onSubmit={(e) => {
        e.preventDefault();
        add.mutate();
      }}
      sx={{ display: 'flex', flexWrap: 'wrap', alignItems: 'center', gap: 1.5, mb: 1 }}
    >
      <TextField label="Name to sign in by" value={name} onChange={(e) => setName(e.target.value)} required />
      <TextField label="What people call them" value={displayName} onChange={(e) => setDisplayName(e.target.value)} />
      <RoleBoxes of="They" roles={roles} onChange={setRoles} />
      <Button type="submit" variant="contained" disabled={add.isPending || roles.length === 0}>
        Add
      </Button>
      {add.error && (
        <Alert severity="error" variant="outlined">
          {add.error.message}
        </Alert>
      )}
    </Box>
  );
}
