import Box from '@mui/material/Box';
import type { ReactNode } from 'react';

/** The column beside a page; scrolls by itself, also by keys. */
export function Side({ label, children }: { label: string; children: ReactNode }) {
  return (
    <Box
      component="aside"
      aria-label={label}
      tabIndex={0}
      sx={{ borderLeft: 1, borderColor: 'divider', bgcolor: 'background.paper', p: 2, overflow: 'auto' }}
    >
      {children}
    </Box>
  );
}
