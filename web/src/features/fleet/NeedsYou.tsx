import Box from '@mui/material/Box';
import { useQuery } from '@tanstack/react-query';
import { Link, useLocation } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useZone } from '../../app/places';
import { withPremise } from '../../app/premise';
import { Said } from '../../shared/Said';

/** A list longer than this is worked off from the rows of the fleet. */
const most = 40;

const words: Record<Schemas['Urgency'], string> = { now: 'Now', soon: 'This week', later: 'When there is time' };

/** Findings by urgency, each with its reason and the one action that mends it. */
export function NeedsYou() {
  const findings = useQuery({ queryKey: ['findings'], queryFn: () => got(api.GET('/api/findings')) });
  const { search } = useLocation();
  const zone = useZone();
  const rows = findings.data ?? [];
  return (
    <Box
      component="aside"
      aria-label="Needs you"
      tabIndex={0}
      sx={{ borderLeft: 1, borderColor: 'divider', bgcolor: 'background.paper', overflow: 'auto', px: 2, py: 1.25 }}
    >
      <h2 style={{ margin: '2px 0 8px', fontSize: 15 }}>Needs you{rows.length > 0 && ` · ${rows.length}`}</h2>
      {findings.isSuccess && rows.length === 0 && (
        <Box sx={{ color: 'text.secondary' }}>
          Nothing. Every database has copies apart from it, whole chains and a proof that counts.
        </Box>
      )}
      {(['now', 'soon', 'later'] as const).map((u) => {
        const these = rows.filter((r) => r.urgency === u);
        if (these.length === 0) return null;
        return (
          <Box key={u} component="section" sx={{ mb: 2 }}>
            <Box
              component="h3"
              sx={{ m: 0, mb: 0.5, fontSize: 12, color: u === 'now' ? 'verdict.breached' : 'text.secondary' }}
            >
              {words[u]} · {these.length}
            </Box>
            {these.slice(0, most).map((f, i) => (
              <Box key={i} sx={{ py: 0.75, borderTop: 1, borderColor: 'divider' }}>
                <Box
                  component={Link}
                  to={withPremise(`/databases/${f.database}`, search)}
                  sx={{ fontWeight: 650, textDecoration: 'none' }}
                >
                  {f.databaseName}
                </Box>
                <Box>
                  <Said text={f.what} zone={zone} />
                </Box>
                <Box sx={{ color: 'text.secondary', fontSize: 12, overflowWrap: 'anywhere' }}>
                  <Said text={f.why} zone={zone} />
                </Box>
                <Box
                  component={Link}
                  to={remedyPath(f, search)}
                  sx={{ fontSize: 12.5, color: 'primary.main', fontWeight: 600 }}
                >
                  {f.remedy}
                </Box>
              </Box>
            ))}
            {these.length > most && (
              <Box sx={{ pt: 0.75, color: 'text.secondary' }}>
                and {these.length - most} more; each stands on the page of its database
              </Box>
            )}
          </Box>
        );
      })}
    </Box>
  );
}

function remedyPath(f: Schemas['FindingRow'], search: string): string {
  if (f.code === 'never-restored' || f.code === 'proof-invalid') return withPremise(`/recover/${f.database}`, search);
  if (/^(keeps-failing|run-stands-out|does-not-end)$/.test(f.code))
    return withPremise('/task-runs', search, { database: f.database });
  return withPremise(/^(no-plan|no-sets)$/.test(f.code) ? '/plans' : `/databases/${f.database}`, search);
}
