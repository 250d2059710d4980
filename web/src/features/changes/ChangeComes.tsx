import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import type { Schemas } from '../../api/client';
import { useClock } from '../../app/live';
import { useZone } from '../../app/places';
import { duration, localTime } from '../../shared/format';
import { SideSection } from '../../shared/SideSection';

/** What a rehearsal of a change and its day come to, before either is begun. */
export function ChangeComes({
  sheet: s,
  end,
  may,
  rehearse,
  begin,
}: {
  sheet: Schemas['ChangeSheet'];
  end: number | null;
  may: boolean;
  rehearse: () => void;
  begin: () => void;
}) {
  const zone = useZone();
  const f = s.forecast;
  return (
    <>
      <Box sx={{ mb: 1.5 }}>
        <Box sx={{ color: 'text.secondary' }}>
          expected on {s.databaseName}
          {s.version !== null && `, version ${s.version} now`}
        </Box>
        <Box sx={{ fontSize: 22, fontWeight: 650 }} data-testid="expected">
          {f ? duration(f.seconds) : 'not known'}
        </Box>
        {f
          ? `${duration(f.from)} to ${duration(f.to)}, from ${f.rehearsals} ${f.rehearsals === 1 ? 'rehearsal' : 'rehearsals'}${f.scaled ? ', scaled from another host' : ''}`
          : 'because it was never rehearsed here'}
      </Box>
      <SideSection title="A rehearsal">
        {s.rehearsal.refused !== null ? (
          <Alert severity="error" variant="outlined">
            It cannot be rehearsed: {s.rehearsal.refused}.
          </Alert>
        ) : (
          <>
            <Box sx={{ mb: 0.75 }}>
              A copy on <b>{s.rehearsal.host}</b>, ready and checked after{' '}
              <b>{duration(s.rehearsal.restoreSeconds! + s.rehearsal.checkSeconds!)}</b>; changed, looked at before and
              after, thrown away.
            </Box>
            <Box component="details" sx={{ color: 'text.secondary', mb: 1 }}>
              <summary>what it cannot show ({s.rehearsal.notTested.length})</summary>
              <Box component="ul" sx={{ my: 0.5, pl: 2.25 }}>
                {s.rehearsal.notTested.map((n) => (
                  <li key={n}>{n}</li>
                ))}
              </Box>
            </Box>
            <Button variant={f ? 'outlined' : 'contained'} disabled={!may} onClick={rehearse}>
              Rehearse it
            </Button>
          </>
        )}
      </SideSection>
      <SideSection title="Its day">
        {s.day.refused !== null ? (
          <Alert severity={s.day.member === 'windowEnd' ? 'info' : 'error'} variant="outlined">
            It cannot be begun: {s.day.refused}.
          </Alert>
        ) : (
          <>
            <Window sheet={s} end={end} />
            <Box sx={{ my: 0.75 }}>
              Turning back takes <b>{duration(s.day.wayBackSeconds)}</b>: the last moment for it is{' '}
              <b>{localTime(s.day.lastTurn!, zone)}</b>.
            </Box>
            {s.day.warnings.map((w) => (
              <Alert key={w} severity="warning" variant="outlined" sx={{ mb: 0.75 }}>
                {w[0]!.toUpperCase() + w.slice(1)}.
              </Alert>
            ))}
            <Box component="details" sx={{ color: 'text.secondary', mb: 1 }}>
              <summary>what is done ({s.day.steps.length} steps)</summary>
              <Box component="ol" sx={{ my: 0.5, pl: 2.5 }}>
                {s.day.steps.map((t, i) => (
                  <li key={i}>{t}</li>
                ))}
              </Box>
            </Box>
            <Button variant={f ? 'contained' : 'outlined'} disabled={!may} onClick={begin}>
              Ask for it
            </Button>
            <Box sx={{ color: 'text.secondary', mt: 0.5 }}>
              A second person must agree; {s.day.outage ? 'everybody is kept out, ' : ''}a fresh recovery point is
              taken, and then it waits for your word.
            </Box>
          </>
        )}
      </SideSection>
    </>
  );
}

/** The window from now on: what is expected, the band it may take, and the stretch in which it is too late to turn back. */
function Window({ sheet: s, end }: { sheet: Schemas['ChangeSheet']; end: number | null }) {
  const clock = useClock();
  const zone = useZone();
  if (!clock || end === null || end <= clock.now) return null;
  const whole = (end - clock.now) / 1000;
  const share = (seconds: number) => Math.max(0, Math.min(100, (seconds / whole) * 100));
  const f = s.forecast;
  const back = share(s.day.wayBackSeconds!);
  return (
    <Box
      role="img"
      aria-label={`Of ${duration(whole)}, ${f ? `${duration(f.seconds)} are expected` : 'nobody knows how much is needed'}; in the last ${duration(s.day.wayBackSeconds)} it is too late to turn back`}
    >
      <Box sx={{ position: 'relative', height: 22, border: 1, borderColor: 'line' }}>
        {f && (
          <>
            <Box
              sx={{
                position: 'absolute',
                inset: '0 auto 0 0',
                width: `${share(f.to)}%`,
                bgcolor: 'primary.main',
                opacity: 0.25,
              }}
            />
            <Box
              sx={{
                position: 'absolute',
                top: 5,
                bottom: 5,
                left: 0,
                width: `${share(f.seconds)}%`,
                minWidth: 2,
                bgcolor: 'primary.main',
              }}
            />
          </>
        )}
        <Box
          sx={{
            position: 'absolute',
            inset: '0 0 0 auto',
            width: `${back}%`,
            borderLeft: 2,
            borderColor: 'verdict.breached',
            backgroundImage:
              'repeating-linear-gradient(135deg, transparent 0 4px, color-mix(in srgb, currentColor 35%, transparent) 4px 5px)',
          }}
        />
      </Box>
      <Box sx={{ display: 'flex', justifyContent: 'space-between', fontSize: 12, color: 'text.secondary' }}>
        <span>now</span>
        <span>{back > 12 ? 'too late to turn back' : ''}</span>
        <span>{localTime(end, zone, false)}</span>
      </Box>
    </Box>
  );
}
