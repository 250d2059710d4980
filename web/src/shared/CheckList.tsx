import Box from '@mui/material/Box';
import type { Schemas } from '../api/client';

/** What was checked, with what was seen. */
export function CheckList({ checks }: { checks: Schemas['CheckResult'][] }) {
  return checks.map((c) => (
    <Box key={c.name} sx={{ py: 0.4, borderTop: 1, borderColor: 'divider' }}>
      <b>{c.name}</b>{' '}
      <Box component="span" sx={{ color: c.passed ? 'primary.main' : 'error.main', fontWeight: 650 }}>
        {c.passed ? 'passed' : 'did not pass'}
      </Box>
      <Box sx={{ fontSize: 12, color: 'text.secondary', overflowWrap: 'anywhere' }}>{c.detail}</Box>
    </Box>
  ));
}
