import Box from '@mui/material/Box';
import type { Schemas } from '../../api/client';
import { CheckList } from '../../shared/CheckList';
import { Figure } from '../../shared/Figure';
import { count, duration } from '../../shared/format';
import { SideSection } from '../../shared/SideSection';
import { drillKindWord, endingWord } from './words';

/** What a drill was expected to come to and measured: each change of roles against what was agreed, people apart from work, and every check. */
export function DrillFigures({ drill: d }: { drill: Schemas['DrillView'] }) {
  const m = d.measured;
  return (
    <>
      <Box sx={{ mb: 1.5 }}>
        <b>{drillKindWord[d.kind]}</b> to {d.replica}; {endingWord[d.ending]} at the end
        {d.kind === 'forced' && `; stands for ${d.loss}`}.
      </Box>
      {m?.passed !== null && m?.passed !== undefined && (
        <Box
          data-testid="drill-passed"
          sx={{ fontSize: 17, fontWeight: 650, mb: 1.5, color: m.passed ? 'primary.main' : 'verdict.breached' }}
        >
          {m.passed ? 'Passed' : 'Did not pass'}
          {m.failed.map((f) => (
            <Box key={f} sx={{ fontSize: 13, fontWeight: 400, color: 'text.primary' }}>
              {f}
            </Box>
          ))}
        </Box>
      )}
      {!m && (
        <Box sx={{ display: 'flex', flexDirection: 'column', gap: 1.25, mb: 2 }}>
          <Figure word="could lose, planned" seconds={d.plannedLostSeconds} limit={d.rpoSeconds} />
          <Figure
            word="clients are back, planned"
            prefix="in"
            seconds={d.plannedServiceSeconds}
            limit={d.rtoSeconds}
            note="people not counted"
          />
        </Box>
      )}
      {m?.changes.map((c, i) => (
        <SideSection key={c.stoppedAt} title={`${i === 0 ? 'There' : 'Home'}: ${c.from} to ${c.to}`}>
          <Box sx={{ display: 'flex', flexDirection: 'column', gap: 1 }}>
            <Figure
              word="data lost, measured"
              seconds={c.lostSeconds}
              limit={d.rpoSeconds}
              unknown="it is not looked for yet"
            />
            <Box sx={{ color: 'text.secondary' }}>
              {c.plannedLostSeconds > 0
                ? `Up to ${duration(c.plannedLostSeconds)} was announced`
                : 'Nothing was to be lost'}
              ;{' '}
              {c.markersMissing === null
                ? `${count(c.markers)} markers until then`
                : `${count(c.markersMissing)} of ${count(c.markers)} markers missing`}
              .
            </Box>
            <Figure
              word="until a client wrote again, measured"
              seconds={c.serviceSeconds}
              limit={d.rtoSeconds}
              unknown="clients are not back yet"
            />
            {c.serviceSeconds !== null && (
              <Box sx={{ color: 'text.secondary' }}>
                {c.peopleSeconds > 0 && `${duration(c.peopleSeconds)} of it people were waited for, `}
                {duration(c.serviceSeconds - c.peopleSeconds)} was work
                {c.plannedServiceSeconds !== null && `, ${duration(c.plannedServiceSeconds)} was planned`}.
              </Box>
            )}
            <CheckList checks={c.checks} />
          </Box>
        </SideSection>
      ))}
    </>
  );
}
