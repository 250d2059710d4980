import Box from '@mui/material/Box';
import { Link, useLocation } from 'react-router';
import type { Schemas } from '../../api/client';
import { withPremise } from '../../app/premise';
import { count, duration } from '../../shared/format';
import { stateColour, stateWord } from '../runs/words';

/** The databases of a drill of many: how far each is, and what was measured against what was planned and agreed. */
export function JointFigures({ view }: { view: Schemas['RunView'] }) {
  const { search } = useLocation();
  const joint = view.joint!;
  const runs = new Map(view.followed.map((f) => [f.id, f]));
  const measured = new Map(joint.measured.members.map((m) => [m.database, m]));
  const passed = joint.measured.members.filter((m) => m.passed).length;
  const over = view.run.ended !== null;
  const cell = { borderTop: 1, borderColor: 'divider', py: 0.5, overflowWrap: 'anywhere', minWidth: 0 } as const;
  return (
    <Box component="section" aria-label="Databases of the drill" sx={{ my: 2 }}>
      {over && view.run.state === 'done' && (
        <Box
          sx={{
            fontSize: 17,
            fontWeight: 620,
            mb: 1,
            color: passed === joint.members.length ? 'primary.main' : 'verdict.breached',
          }}
        >
          {count(passed)} of {count(joint.members.length)} came back within what was agreed
        </Box>
      )}
      <Box
        sx={{
          display: 'grid',
          gridTemplateColumns: {
            xs: 'repeat(2, minmax(0, 1fr))',
            sm: 'minmax(110px, 1fr) minmax(150px, 1.4fr) minmax(100px, 0.9fr) minmax(120px, 1fr)',
          },
          columnGap: 2,
        }}
      >
        {['Database', 'by, and how far', 'lost, planned', 'back in, planned / RTO'].map((h) => (
          <Box key={h} sx={{ fontSize: 12, color: 'text.secondary' }}>
            {h}
          </Box>
        ))}
        {joint.members.map((m) => {
          const run = runs.get(m.run);
          const is = run?.ended ? measured.get(m.database) : undefined;
          const back = is?.backSeconds ?? is?.serviceSeconds ?? null;
          return (
            <Box key={m.database} sx={{ display: 'contents' }}>
              <Box sx={cell}>
                <Link to={withPremise(run ? `/runs/${m.run}` : `/databases/${m.database}`, search)}>{m.name}</Link>
              </Box>
              <Box sx={cell}>
                {m.replica ?? 'sets'}, on {m.host}:{' '}
                <Box component="span" sx={{ color: run && stateColour(run.state, 'primary.main'), fontWeight: 620 }}>
                  {run ? stateWord[run.state] : view.run.ended ? 'not begun' : 'waits its turn'}
                </Box>
                {is && !is.passed && (
                  <Box sx={{ fontSize: 12, color: 'verdict.breached' }}>{is.note ?? 'it did not pass'}</Box>
                )}
              </Box>
              <Box
                sx={{
                  ...cell,
                  color:
                    m.rpoSeconds !== null && (is?.lostSeconds ?? 0) > m.rpoSeconds
                      ? 'verdict.breached'
                      : 'text.primary',
                }}
              >
                {is ? (is.lostSeconds === null ? 'not measured' : duration(is.lostSeconds)) : '–'}
                <Box component="span" sx={{ color: 'text.secondary' }}>
                  , {duration(m.plannedLostSeconds)}
                </Box>
              </Box>
              <Box
                sx={{
                  ...cell,
                  color: m.rtoSeconds !== null && (back ?? 0) > m.rtoSeconds ? 'verdict.breached' : 'text.primary',
                }}
              >
                {is ? (back === null ? 'never' : duration(back)) : '–'}
                <Box component="span" sx={{ color: 'text.secondary' }}>
                  , {duration(m.plannedServiceSeconds)} / {m.rtoSeconds === null ? 'none' : duration(m.rtoSeconds)}
                </Box>
              </Box>
            </Box>
          );
        })}
      </Box>
    </Box>
  );
}
