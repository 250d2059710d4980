import Box from '@mui/material/Box';
import type { ReactNode } from 'react';

/** A page: what one decides on the left, what follows from it on the right; on a phone below it. */
export function Worksheet({ side, fill, children }: { side: number; fill?: boolean; children: ReactNode }) {
  return (
    <Box
      sx={{
        display: 'grid',
        gridTemplateColumns: { xs: 'minmax(0, 1fr)', md: `minmax(0, 1fr) ${side}px` },
        // What fills the page scrolls by itself; on a phone it leaves room to reach what is below.
        ...(fill
          ? { height: '100%', gridTemplateRows: { xs: '85dvh auto', md: 'minmax(0, 1fr)' } }
          : { minHeight: '100%' }),
      }}
    >
      {children}
    </Box>
  );
}
