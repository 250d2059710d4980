import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useLocation } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useZone } from '../../app/places';
import { withPremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { Failure } from '../../shared/Failure';
import { localTime, utc } from '../../shared/format';
import { drillKindWord, endingWord } from './words';

type Row = Schemas['DatedDrillView'];

/** Where a drill with a date is begun: its worksheet, filled in. */
export function worksheetOf(d: Row, search: string): string {
  const common = { kind: d.kind, ending: d.ending, dated: d.id };
  return d.of === 'database'
    ? withPremise('/drills/new', search, { database: d.target, replica: d.replica ?? '', ...common })
    : withPremise('/drills/joint', search, { of: d.of, id: d.target, ...common });
}

/** Drills that have a date: what, when, who is told; begun or called off from here. */
export function DatedDrills() {
  const { search } = useLocation();
  const zone = useZone();
  const may = useMay('operate');
  const queries = useQueryClient();
  const dated = useQuery({
    queryKey: ['drills', 'dated'],
    queryFn: () => got(api.GET('/api/drills/dated')),
    refetchInterval: 30_000,
  });
  const off = useMutation({
    mutationFn: (id: string) => got(api.POST('/api/drills/dated/{id}/call-off', { params: { path: { id } } })),
    onSettled: () => queries.invalidateQueries({ queryKey: ['drills', 'dated'] }),
  });
  if (dated.error) return <Failure error={dated.error} again={() => void dated.refetch()} />;
  const rows = (dated.data ?? []).filter((d) => d.calledOffBy === null);
  if (rows.length === 0) return null;
  const open = rows.filter((d) => d.run === null);
  return (
    <Box component="section" aria-label="Drills with a date" sx={{ my: 2 }}>
      <Box sx={{ display: 'flex', alignItems: 'baseline', gap: 2 }}>
        <h2 style={{ margin: 0, fontSize: 15 }}>Drills with a date</h2>
        {open.length > 0 && <a href="/api/drills/dated.ics">As a calendar</a>}
      </Box>
      {off.error && <Failure error={off.error} />}
      {rows.map((d) => (
        <Box
          key={d.id}
          sx={{
            display: 'grid',
            gridTemplateColumns: { xs: 'minmax(0, 1fr)', sm: '150px minmax(0, 1fr) auto' },
            columnGap: 2,
            py: 0.75,
            borderTop: 1,
            borderColor: 'divider',
            alignItems: 'baseline',
          }}
        >
          <Box title={utc(d.at)} sx={{ fontWeight: 620, color: d.missed ? 'verdict.breached' : 'text.primary' }}>
            {localTime(d.at, zone, false)}
            {d.missed && <Box sx={{ fontSize: 12 }}>not held</Box>}
          </Box>
          <Box sx={{ minWidth: 0, overflowWrap: 'anywhere' }}>
            {drillKindWord[d.kind as Schemas['DrillKind']]} of{' '}
            {d.of === 'database' ? <Link to={withPremise(`/databases/${d.target}`, search)}>{d.title}</Link> : d.title}
            {d.replica && ` to ${d.replica}`},{' '}
            {d.kind === 'restoreTest' ? 'restored aside' : endingWord[d.ending as Schemas['DrillEnding']]}
            {d.why && <Box>{d.why}</Box>}
            <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
              set by {d.askedBy}, told: {d.people.join(', ')}
              {d.escalate.length > 0 && `; if it is not held: ${d.escalate.join(', ')}`}
            </Box>
          </Box>
          <Box sx={{ display: 'flex', gap: 1, alignItems: 'baseline' }}>
            {d.run !== null ? (
              <Link to={withPremise(`/runs/${d.run}`, search)}>held: its run</Link>
            ) : (
              may && (
                <>
                  <Link to={worksheetOf(d, search)}>Begin it</Link>
                  <Button color="error" disabled={off.isPending} onClick={() => off.mutate(d.id)}>
                    Call it off
                  </Button>
                </>
              )
            )}
          </Box>
        </Box>
      ))}
    </Box>
  );
}
