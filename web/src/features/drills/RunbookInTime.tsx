import Box from '@mui/material/Box';
import type { Schemas } from '../../api/client';
import { duration } from '../../shared/format';
import { ownerWord } from './words';

type Step = Schemas['DrillStepView'];

/** The runbook from left to right in time: what decides the end heavy, what has slack pale; what people do stands as a mark, for nobody knows how long it takes. */
export function RunbookInTime({ steps, seconds }: { steps: Step[]; seconds: number }) {
  const whole = Math.max(seconds, 1);
  // Steps of a second beside one of minutes: a square root of time keeps both to be seen.
  const at = (s: number) => Math.sqrt(Math.max(0, s) / whole) * 100;
  const from = steps.findIndex((s) => s.kind === 'stop');
  const to = steps.findIndex((s) => s.kind === 'back');
  return (
    <Box component="section" aria-label="Runbook">
      <Box sx={{ display: 'grid', gridTemplateColumns: 'minmax(180px, 5fr) 6fr 78px', columnGap: 1.5 }}>
        {steps.map((s, i) => (
          <Box
            key={s.number}
            sx={{
              display: 'contents',
              '& > *': { bgcolor: from >= 0 && i >= from && i <= to ? 'background.paper' : undefined },
            }}
          >
            <Box
              sx={{
                py: 0.5,
                borderTop: 1,
                borderColor: 'divider',
              }}
            >
              <b>{s.number}.</b> {s.title}
              <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
                {ownerWord(s.owner)}
                {s.needsApproval && ' must agree before it begins'}
                {s.noWayBack && <b> · until here one can turn back</b>}
              </Box>
            </Box>
            <Box sx={{ borderTop: 1, borderColor: 'divider', position: 'relative', minHeight: 36 }}>
              {s.hold || s.needsApproval ? (
                <svg
                  width="12"
                  height="12"
                  aria-hidden
                  style={{ position: 'absolute', left: `calc(${at(s.startsAt)}% - 6px)`, top: 6 }}
                >
                  <path d="M6 0l6 6-6 6-6-6z" fill="var(--mui-palette-warning-main)" />
                </svg>
              ) : null}
              {!s.hold && (
                <Box
                  sx={{
                    position: 'absolute',
                    top: 10,
                    height: s.critical ? 12 : 6,
                    left: `${at(s.startsAt)}%`,
                    width: `max(3px, ${at(s.endsAt) - at(s.startsAt)}%)`,
                    bgcolor: s.noWayBack ? 'warning.main' : 'primary.main',
                    opacity: s.critical ? 1 : 0.35,
                  }}
                />
              )}
            </Box>
            <Box
              sx={{ py: 0.5, borderTop: 1, borderColor: 'divider', textAlign: 'right', whiteSpace: 'nowrap' }}
              title={s.from ?? undefined}
            >
              {s.seconds === null ? (s.hold ? 'by people' : 'not known') : duration(s.seconds)}
              {s.from === 'learned' && <Box sx={{ fontSize: 11, color: 'text.secondary' }}>learned</Box>}
            </Box>
          </Box>
        ))}
      </Box>
      <Box sx={{ color: 'text.secondary', fontSize: 12, mt: 0.75 }}>
        In all {duration(seconds)}, the time of people not counted (square-root scale). From the stop until clients are
        back nobody can write: those steps are shaded.
      </Box>
    </Box>
  );
}
