import Box from '@mui/material/Box';
import type { Schemas } from '../../api/client';

/** What differs between two plans or versions, member by member. */
export function Differences({ all, most = 12 }: { all: Schemas['DifferenceView'][]; most?: number }) {
  return (
    <>
      {all.slice(0, most).map((d) => (
        <Box key={d.member} sx={{ mb: 0.5, overflowWrap: 'anywhere' }}>
          {d.member}:{' '}
          <Box component="span" sx={{ color: 'text.secondary' }}>
            {d.before ?? 'nothing'}
          </Box>{' '}
          → <b>{d.after ?? 'nothing'}</b>
        </Box>
      ))}
      {all.length > most && <Box>and {all.length - most} more</Box>}
    </>
  );
}
