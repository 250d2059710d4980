import Box from '@mui/material/Box';
import type { Schemas } from '../../api/client';
import { useZone } from '../../app/places';
import { CheckList } from '../../shared/CheckList';
import { Figure } from '../../shared/Figure';
import { localTime } from '../../shared/format';
import { SideSection } from '../../shared/SideSection';
import { Rounds, roundsOf } from '../moves/Rounds';
import { NamesTable } from './NamesTable';

/** A second database that is made: how soon it can be looked at, as of when, its rounds where it catches up, and what it is called. */
export function SecondFigures({
  second: s,
  restore,
  steps,
}: {
  second: Schemas['SecondRunView'];
  restore: Schemas['RestoreView'];
  steps: Schemas['RunStepView'][];
}) {
  const zone = useZone();
  const m = restore.measured;
  return (
    <>
      <Box sx={{ display: 'flex', flexDirection: 'column', gap: 1.25, mb: 2 }}>
        <Figure
          word="planned"
          prefix="to look at in"
          seconds={steps.find((step) => step.hold)?.plannedStart}
          note={`${s.id} on ${restore.host}`}
        />
        <Figure
          word="measured"
          prefix="to look at in"
          seconds={m?.secondsToReady}
          unknown="it is not ready and checked yet"
        />
        {m && (
          <Box>
            As of <b title={m.reached}>{localTime(m.reached, zone)}</b>
          </Box>
        )}
      </Box>
      {s.forecast && (
        <Rounds rows={roundsOf([...s.forecast.rounds, s.forecast.last], s.rounds)} following={s.following} />
      )}
      <SideSection title="Names it brings">
        <NamesTable names={s.names.map((n) => ({ ...n, takenBy: null }))} />
      </SideSection>
      {m && (
        <SideSection title="Checks">
          <CheckList checks={m.checks} />
        </SideSection>
      )}
    </>
  );
}
