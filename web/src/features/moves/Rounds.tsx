import Box from '@mui/material/Box';
import type { Schemas } from '../../api/client';
import { bytes, duration } from '../../shared/format';
import { SideSection } from '../../shared/SideSection';

type Round = Schemas['Round'];

/** Rounds by which a database is followed: each as it was expected and as it was measured. */
export function Rounds({
  rows,
  following,
}: {
  rows: [what: string, planned: Round | null, measured: Round | null][];
  following: Round | null;
}) {
  const longest = Math.max(...rows.flatMap(([, p, m]) => [p?.seconds ?? 0, m?.seconds ?? 0]), 1);
  return (
    <SideSection title="Rounds">
      <Box sx={{ color: 'text.secondary', fontSize: 12, mb: 0.5 }}>
        Thin: as expected. Thick: as measured, with what was moved.
      </Box>
      {rows.map(([what, planned, measured]) => (
        <Box
          key={what}
          sx={{ display: 'grid', gridTemplateColumns: '96px minmax(40px, 1fr) 118px', columnGap: 1, py: 0.25 }}
        >
          <Box sx={{ color: measured ? undefined : 'text.secondary' }}>{what}</Box>
          <Box aria-hidden sx={{ alignSelf: 'center' }}>
            <Box
              sx={{ height: 3, bgcolor: 'text.secondary', width: `${((planned?.seconds ?? 0) / longest) * 100}%` }}
            />
            <Box
              sx={{
                height: 7,
                mt: '1px',
                minWidth: measured ? 2 : 0,
                bgcolor: 'primary.main',
                width: `${((measured?.seconds ?? 0) / longest) * 100}%`,
              }}
            />
          </Box>
          <Box sx={{ textAlign: 'right', color: measured ? undefined : 'text.secondary' }}>
            {measured ? duration(measured.seconds) : `about ${duration(planned?.seconds)}`}
            <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
              {measured ? bytes(measured.data) : planned && bytes(planned.data)}
            </Box>
          </Box>
        </Box>
      ))}
      {following && (
        <Box sx={{ mt: 1 }}>
          By what the last one took, the next would move <b>{bytes(following.data)}</b> in{' '}
          <b>{duration(following.seconds)}</b>.
        </Box>
      )}
    </SideSection>
  );
}

/** Rounds in order, as many as were expected or made, with what each is called. */
export const roundsOf = (planned: Round[], measured: Round[]) =>
  Array.from({ length: Math.max(planned.length, measured.length) }, (_, i): [string, Round | null, Round | null] => [
    i === 0 ? 'all of it' : `round ${i}`,
    planned[i] ?? null,
    measured[i] ?? null,
  ]);
