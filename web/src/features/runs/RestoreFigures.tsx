import Box from '@mui/material/Box';
import type { Schemas } from '../../api/client';
import { useZone } from '../../app/places';
import { CheckList } from '../../shared/CheckList';
import { Figure } from '../../shared/Figure';
import { bytes, duration, localTime } from '../../shared/format';
import { SideSection } from '../../shared/SideSection';

/** What a restore promised and measured, side by side, and what was checked. */
export function RestoreFigures({ restore }: { restore: Schemas['RestoreView'] }) {
  const zone = useZone();
  const { measured: m, planned } = restore;
  return (
    <>
      <Box sx={{ display: 'flex', flexDirection: 'column', gap: 1.25, mb: 2 }}>
        <Figure
          word="planned"
          prefix="back in"
          seconds={planned.serviceSeconds}
          limit={restore.rtoSeconds}
          note={planned.source === 'learned' ? 'learned from finished runs' : "from the engine's profile"}
        />
        <Figure
          word={m ? 'measured, without the hold' : 'measured'}
          prefix="back in"
          seconds={m?.serviceSeconds}
          limit={restore.rtoSeconds}
          unknown="it is not ready yet"
        />
        <Figure
          word="data lost"
          seconds={m ? m.dataLostSeconds : planned.lostSeconds}
          limit={restore.rpoSeconds}
          note={m ? 'measured' : 'planned'}
        />
        {m && <Figure word="until ready and checked" seconds={m.secondsToReady} note="measured" />}
        {m?.holdSeconds != null && <Figure word="held" seconds={m.holdSeconds} note="measured, shown apart" />}
        {m?.secondsToService != null && (
          <Figure word="until service, hold included" seconds={m.secondsToService} note="measured" />
        )}
        {m && m.bytes > 0 && (
          <Box sx={{ color: 'text.secondary' }}>
            It reached {localTime(m.reached, zone)}; {bytes(m.bytes)} read, the engine worked for{' '}
            {duration(m.driverSeconds)}
          </Box>
        )}
      </Box>
      {m && (
        <SideSection title="Checks">
          <CheckList checks={m.checks} />
        </SideSection>
      )}
    </>
  );
}
