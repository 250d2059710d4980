import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useQuery } from '@tanstack/react-query';
import { Link, useLocation } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useZone } from '../../app/places';
import { withPremise } from '../../app/premise';
import { Failure } from '../../shared/Failure';
import { duration, localTime } from '../../shared/format';
import { lists } from './members';

const against = (lists.objectives.members.find((m) => m.key === 'against') as { words: Record<string, string> }).words;

const columns = {
  display: 'grid',
  gridTemplateColumns: 'minmax(120px, 1.2fr) 90px 90px minmax(150px, 1.6fr) minmax(150px, 2fr)',
  columnGap: 2,
};

/** What was agreed for each database, by service: to be printed, and signed by those who agreed it. */
export default function AgreedPage() {
  const zone = useZone();
  const { search } = useLocation();
  const agreed = useQuery({ queryKey: ['agreed'], queryFn: () => got(api.GET('/api/agreed')) });
  if (agreed.error) return <Failure error={agreed.error} again={() => void agreed.refetch()} />;
  const a = agreed.data;
  const services = new Map<string, Schemas['AgreedRow'][]>();
  for (const r of a?.rows ?? []) services.set(r.service ?? '', [...(services.get(r.service ?? '') ?? []), r]);
  return (
    <Box sx={{ p: 2, '@media print': { p: 0, fontSize: 11 } }}>
      <Box sx={{ display: 'flex', gap: 2, alignItems: 'baseline', flexWrap: 'wrap', mb: 1.5 }}>
        <h1 style={{ fontSize: 20, margin: 0 }}>What was agreed</h1>
        {a && (
          <Box sx={{ color: 'text.secondary' }}>
            as of {localTime(a.at, zone)}, version {a.version} of the fleet · {a.rows.length} databases,{' '}
            {a.rows.filter((r) => r.objective === null).length} without an objective
          </Box>
        )}
        <Box sx={{ ml: 'auto', displayPrint: 'none', display: 'flex', gap: 2, alignItems: 'center' }}>
          <Link to={withPremise('/setup/fleet/objectives', search)}>edit objectives</Link>
          <Button variant="outlined" onClick={() => window.print()}>
            Print
          </Button>
        </Box>
      </Box>
      <Box sx={{ ...columns, color: 'text.secondary', fontSize: 12, mb: 0.5 }} aria-hidden>
        <span>database</span>
        <span>may lose</span>
        <span>back within</span>
        <span>against the loss of</span>
        <span>objective, who agreed it and why</span>
      </Box>
      {[...services].map(([service, rows]) => (
        <Box
          component="section"
          key={service}
          aria-label={service || 'No service'}
          sx={{ mb: 2, breakInside: 'avoid' }}
        >
          <Box component="h2" sx={{ m: 0, mb: 0.25, fontSize: 15 }}>
            {service || 'Of no service'}
            {rows[0]!.serviceOwner && (
              <Box component="span" sx={{ fontWeight: 400, color: 'text.secondary' }}>
                {' '}
                · {rows[0]!.serviceOwner} answers for it
              </Box>
            )}
          </Box>
          {rows.map((r) => (
            <Box key={r.database} sx={{ ...columns, py: 0.4, borderTop: 1, borderColor: 'line' }}>
              <span>{r.name}</span>
              {r.objective === null ? (
                <Box sx={{ gridColumn: '2 / -1', color: 'verdict.atRisk' }}>nothing was agreed</Box>
              ) : (
                <>
                  <span title="may lose">{duration(r.rpoSeconds)}</span>
                  <span title="back within">{duration(r.rtoSeconds)}</span>
                  <span>{r.against.map((k) => against[k] ?? k).join(', ')}</span>
                  <Box sx={{ color: 'text.secondary' }}>
                    {r.objectiveName}
                    {r.owner && ` · agreed by ${r.owner}`}
                    {r.reason && `: ${r.reason}`}
                    {r.until && (
                      <Box
                        component="b"
                        sx={{ color: Date.parse(r.until) <= Date.parse(a!.at) ? 'verdict.breached' : undefined }}
                      >
                        {' '}
                        · until {localTime(r.until, zone, false)}
                      </Box>
                    )}
                  </Box>
                </>
              )}
            </Box>
          ))}
        </Box>
      ))}
    </Box>
  );
}
