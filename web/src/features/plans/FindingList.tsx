import Box from '@mui/material/Box';
import { Link } from 'react-router';
import type { Schemas } from '../../api/client';

/** A finding, and the plan it is of where several plans are spoken of. */
type Found = Schemas['PlanFindingView'] & { plan?: { name: string; to: string } };

/** Findings about plans: what, why it matters, and the remedy. */
export function FindingList({ findings }: { findings: Found[] }) {
  if (findings.length === 0) return <Box sx={{ color: 'text.secondary' }}>Nothing found.</Box>;
  return (
    <>
      {findings.map((f, i) => (
        <Box key={i} sx={{ py: 0.75, borderTop: 1, borderColor: 'divider' }}>
          {f.plan && (
            <Link to={f.plan.to} style={{ fontWeight: 650, textDecoration: 'none' }}>
              {f.plan.name}
            </Link>
          )}
          <Box sx={{ fontWeight: 600, color: f.urgency === 'now' ? 'verdict.breached' : 'text.primary' }}>{f.what}</Box>
          <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
            {f.why}
            {f.databases.length > 1 && ` · ${f.databases.length} databases`}
          </Box>
          <Box sx={{ color: 'primary.main', fontSize: 12.5, fontWeight: 600 }}>{f.remedy}</Box>
        </Box>
      ))}
    </>
  );
}
