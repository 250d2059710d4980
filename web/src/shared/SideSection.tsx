import Box from '@mui/material/Box';
import type { ReactNode } from 'react';

/** A part of the column beside a page. */
export function SideSection({
  title,
  level = 'h2',
  children,
}: {
  title: string;
  level?: 'h2' | 'h3';
  children: ReactNode;
}) {
  return (
    <Box component="section" sx={{ mb: 2.25 }}>
      <Box component={level} sx={{ m: 0, mb: 0.5, fontSize: level === 'h2' ? 14 : 13 }}>
        {title}
      </Box>
      {children}
    </Box>
  );
}
