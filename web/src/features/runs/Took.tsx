import Box from '@mui/material/Box';
import type { Schemas } from '../../api/client';
import { nowMs } from '../../app/live';
import { duration } from '../../shared/format';
import { took } from './words';

/** The bars of what really was, beside those of what was expected. */
const actual = new Set(['took', 'so far']);

/** How long a run took beside what was expected and what is usual. */
export function Took({ view: { run: r, usualSeconds } }: { view: Schemas['RunView'] }) {
  const seconds = took(r);
  const bars: [string, number | null][] = [
    ['took', seconds],
    ['so far', r.started && !r.ended ? Math.max(0, (nowMs() - Date.parse(r.started)) / 1000) : null],
    ['expected, alone', r.expectedSeconds > 0 ? r.expectedSeconds : null],
    ['usual', usualSeconds],
  ];
  const longest = Math.max(1, ...bars.map(([, s]) => s ?? 0));
  return (
    <Box
      sx={{
        display: 'grid',
        gridTemplateColumns: '130px minmax(0, 1fr) 110px',
        gap: 1,
        mt: 2,
        alignItems: 'center',
      }}
    >
      {bars
        .filter(([, s]) => s !== null)
        .map(([word, s]) => (
          <Box key={word} sx={{ display: 'contents' }}>
            <Box sx={{ color: 'text.secondary' }}>{word}</Box>
            <Box
              sx={{
                height: 10,
                width: `max(2px, ${(s! / longest) * 100}%)`,
                bgcolor: actual.has(word) ? 'primary.main' : 'transparent',
                border: 1,
                borderColor: actual.has(word) ? 'primary.main' : 'text.secondary',
              }}
            />
            <span>{duration(s)}</span>
          </Box>
        ))}
    </Box>
  );
}
