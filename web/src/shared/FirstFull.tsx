import Box from '@mui/material/Box';
import type { Schemas } from '../api/client';
import { duration } from './format';

/** The full that something begins with where log is kept for it alone; nothing where log is kept anyway. */
export function FirstFull({ first, of }: { first: Schemas['FirstFull'] | null | undefined; of: string }) {
  if (!first) return null;
  return (
    <Box sx={{ mb: 1.5 }}>
      Its log is discarded. It is kept for {of}, and a full is taken first, into {first.store}
      {first.seconds !== null && <> (about {duration(first.seconds)}, not in the rounds)</>}: log follows none from
      before.
    </Box>
  );
}
