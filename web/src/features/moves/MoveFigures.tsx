import Box from '@mui/material/Box';
import type { Schemas } from '../../api/client';
import { Figure } from '../../shared/Figure';
import { Rounds, roundsOf } from './Rounds';

/** A move under way: how long nobody may write, and each round as it was expected and as it was measured. */
export function MoveFigures({ move: m }: { move: Schemas['MoveRunView'] }) {
  return (
    <>
      <Box sx={{ display: 'flex', flexDirection: 'column', gap: 1.25, mb: 2 }}>
        <Figure
          word="planned"
          prefix="nobody writes for"
          seconds={m.forecast.downtimeSeconds}
          limit={m.figures.window}
          note={`from ${m.from} to ${m.to}`}
        />
        <Figure
          word="measured"
          prefix="nobody writes for"
          seconds={m.downtimeSeconds}
          limit={m.figures.window}
          unknown={`it still runs on ${m.from}`}
        />
      </Box>
      <Rounds
        rows={[...roundsOf(m.forecast.rounds, m.rounds), ['nobody writing', m.forecast.last, m.last]]}
        following={m.following}
      />
    </>
  );
}
