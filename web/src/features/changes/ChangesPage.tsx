import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useQuery } from '@tanstack/react-query';
import { Link, useLocation } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useZone } from '../../app/places';
import { withPremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { Failure } from '../../shared/Failure';
import { duration, localTime } from '../../shared/format';

/** The changes that are kept: what each does, and what rehearsals of it measured, by database. */
export default function ChangesPage() {
  const { search } = useLocation();
  const may = useMay('plan');
  const list = useQuery({ queryKey: ['changes'], queryFn: () => got(api.GET('/api/changes')) });
  if (list.error) return <Failure error={list.error} again={() => void list.refetch()} />;
  const changes = list.data?.changes ?? [];
  return (
    <Box sx={{ p: 2 }}>
      <Box sx={{ display: 'flex', alignItems: 'baseline', gap: 2, flexWrap: 'wrap', mb: 1 }}>
        <h1 style={{ fontSize: 20, margin: 0 }}>Changes</h1>
        <Box sx={{ color: 'text.secondary', maxWidth: 700 }}>
          A change is written once, rehearsed on a copy until it is known how long it takes and what it breaks, and
          carried out the same on its day.
        </Box>
        {may && (
          <Button component={Link} to={withPremise('/changes/new', search)} variant="outlined" sx={{ ml: 'auto' }}>
            Write a change
          </Button>
        )}
      </Box>
      {list.isSuccess && changes.length === 0 && (
        <Box sx={{ color: 'text.secondary' }}>None is written yet: a move to another version, a patch, statements.</Box>
      )}
      {changes.map((c) => (
        <One key={c.id} change={c} search={search} />
      ))}
    </Box>
  );
}

function One({ change: c, search }: { change: Schemas['ChangeScriptView']; search: string }) {
  const zone = useZone();
  const parts = c.change.parts ?? [];
  const latest = [...new Map([...c.rehearsals].reverse().map((r) => [r.database, r])).values()].reverse();
  return (
    <Box
      data-testid="change"
      sx={{
        display: 'grid',
        gridTemplateColumns: { xs: '1fr', md: 'minmax(240px, 2fr) minmax(300px, 3fr)' },
        columnGap: 3,
        rowGap: 1,
        py: 1.25,
        borderTop: 1,
        borderColor: 'line',
      }}
    >
      <Box>
        <Box sx={{ fontSize: 15, fontWeight: 620 }}>
          <Link to={withPremise(`/changes/${c.id}`, search)}>{c.change.name}</Link>
        </Box>
        <Box sx={{ color: 'text.secondary' }}>
          {c.engineName} · {parts.map((p) => p.name).join(' → ')}
          {c.toVersion !== null && ` · ends at version ${c.toVersion}`}
        </Box>
        <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
          {c.change.keepsOut || c.toVersion !== null ? 'everybody is kept out meanwhile' : 'others go on working'} ·
          written by {c.changedBy} {localTime(c.changedAt, zone)}
        </Box>
      </Box>
      <Box>
        {latest.length === 0 ? (
          <Box sx={{ color: 'verdict.atRisk' }}>never rehearsed: how long it takes is not known</Box>
        ) : (
          latest.map((r) => (
            <Box
              key={r.database}
              sx={{ display: 'grid', gridTemplateColumns: 'minmax(110px, 1fr) 80px minmax(150px, 1.6fr)', gap: 1.5 }}
            >
              <Link to={withPremise(`/changes/${c.id}`, search, { database: r.database })}>{r.databaseName}</Link>
              <Box sx={{ textAlign: 'right', fontWeight: 600 }}>{duration(r.seconds)}</Box>
              <Box sx={{ color: r.broke > 0 ? 'verdict.breached' : r.same ? 'text.secondary' : 'verdict.atRisk' }}>
                {r.broke > 0 ? `${r.broke} broke or became slow` : 'nothing broke'} on{' '}
                <Link to={withPremise(`/runs/${r.run}`, search)}>{r.host}</Link>, {localTime(r.at, zone, false)}
                {!r.same && ' · an older script'}
              </Box>
            </Box>
          ))
        )}
      </Box>
    </Box>
  );
}
