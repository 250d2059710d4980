import Box from '@mui/material/Box';
import type { Schemas } from '../../api/client';
import { Figure } from '../../shared/Figure';
import { bytes, duration } from '../../shared/format';
import { SideSection } from '../../shared/SideSection';

type Move = Schemas['MoveRunView'];

/** A move under way: how long nobody may write, and each round as it was expected and as it was measured. */
export function MoveFigures({ move: m }: { move: Move }) {
  const longest = Math.max(
    ...m.forecast.rounds.map((r) => r.seconds),
    ...m.rounds.map((r) => r.seconds),
    m.last?.seconds ?? 0,
    1,
  );
  const rows: [string, Move['rounds'][number] | null, Move['rounds'][number] | null][] = [
    ...Array.from(
      { length: Math.max(m.rounds.length, m.forecast.rounds.length) },
      (_, i) =>
        [
          i === 0 ? 'all of it' : `round ${i}`,
          m.forecast.rounds[i] ?? null,
          m.rounds[i] ?? null,
        ] as (typeof rows)[number],
    ),
    ['nobody writing', m.forecast.last, m.last],
  ];
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
        {m.following && (
          <Box sx={{ mt: 1 }}>
            By what the last one took, the next would move <b>{bytes(m.following.data)}</b> in{' '}
            <b>{duration(m.following.seconds)}</b>.
          </Box>
        )}
      </SideSection>
    </>
  );
}
