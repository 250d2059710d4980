import Box from '@mui/material/Box';
import type { Schemas } from '../../api/client';
import { SideSection } from '../../shared/SideSection';
import { Rounds, roundsOf } from '../moves/Rounds';
import { NamesTable } from './NamesTable';

/** A second database that is made: what it is called, and, where it catches up, its rounds as expected and as measured. */
export function SecondFigures({ second: s }: { second: Schemas['SecondRunView'] }) {
  return (
    <Box sx={{ mt: 2 }}>
      {s.forecast && (
        <Rounds rows={roundsOf([...s.forecast.rounds, s.forecast.last], s.rounds)} following={s.following} />
      )}
      <SideSection title={`What ${s.id} brings`}>
        <NamesTable names={s.names.map((n) => ({ ...n, takenBy: null }))} />
      </SideSection>
    </Box>
  );
}
