import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useLocation } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useGo, withPremise } from '../../app/premise';
import { bytes, duration, localTime } from '../../shared/format';
import { isAsked, SettingsChoice, type SettingsWhen } from '../../shared/SettingsChoice';
import { SideSection } from '../../shared/SideSection';

/** The same move by dump and load: what the last rehearsal measured, another one, and the move itself. */
export function ByDump(props: { database: string; move: Schemas['MoveSheet']; zone: string; may: boolean }) {
  const { move: m, zone } = props;
  const go = useGo();
  const { search } = useLocation();
  const [settings, setSettings] = useState<SettingsWhen>('');
  const begin = useMutation({
    mutationFn: (rehearsed: boolean) =>
      got(
        api.POST(rehearsed ? '/api/moves/rehearse' : '/api/moves/by-dump', {
          body: { database: props.database, to: m.to, settings: settings || null },
        }),
      ),
    onSuccess: (r) => go(`/runs/${r.id}`),
  });
  const barred = !props.may || begin.isPending || isAsked(m.byDump.settings, settings);
  const d = m.byDump;
  const parts: [string, number, string][] = d.last
    ? [
        ['dump', d.last.dumpSeconds, 'primary.main'],
        ['load', d.last.loadSeconds, 'verdict.atRisk'],
        ['open and check', d.last.checkSeconds, 'text.secondary'],
        ['clients over', d.last.redirectSeconds, 'divider'],
      ]
    : [];
  return (
    <SideSection level="h3" title="By dump and load">
      {d.last && (
        <Box sx={{ mb: 1 }}>
          <Link to={withPremise(`/runs/${d.last.run}`, search)}>Rehearsed {localTime(d.last.at, zone)}</Link> on{' '}
          <b>{d.last.host}</b>: nobody could write for
          <Box sx={{ fontSize: 17, fontWeight: 620 }}>{duration(d.last.downtimeSeconds)}</Box>
          <Box sx={{ display: 'flex', height: 10, my: 0.5 }} aria-hidden>
            {parts.map(([what, seconds, colour]) => (
              <Box
                key={what}
                sx={{ minWidth: '1px', width: `${(seconds / d.last!.downtimeSeconds) * 100}%`, bgcolor: colour }}
              />
            ))}
          </Box>
          <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
            {parts.map(([what, seconds]) => `${what} ${duration(seconds)}`).join(' · ')}; {bytes(d.last.dumpBytes)}{' '}
            dumped
          </Box>
          {d.last.host !== m.to ? (
            <Box sx={{ color: 'text.secondary' }}>What it takes on {m.to} nobody has measured.</Box>
          ) : d.last.downtimeSeconds <= m.window ? (
            <Box sx={{ color: 'verdict.proven' }}>Within the {duration(m.window)} allowed.</Box>
          ) : (
            <Box sx={{ color: 'verdict.breached' }}>Longer than the {duration(m.window)} allowed.</Box>
          )}
          {d.last.notPassed.map((n) => (
            <Box key={n} sx={{ color: 'verdict.breached' }}>
              {n}
            </Box>
          ))}
        </Box>
      )}
      {d.whyNot !== null ? (
        <Box sx={{ color: 'text.secondary' }}>It cannot be done so: {d.whyNot}.</Box>
      ) : (
        <>
          <Box sx={{ color: 'text.secondary', mb: 1 }}>
            Nobody can write from the beginning of the dump to the end of the checks. How long that is a rehearsal
            measures: it is dumped into {d.store} while it is worked in, loaded on {m.to}, checked against the dump, and
            all of it is thrown away.
          </Box>
          <SettingsChoice settings={d.settings} when={settings} zone={zone} onWhen={setSettings} />
          {begin.error && (
            <Alert severity="error" variant="outlined" sx={{ mb: 1 }}>
              {begin.error.message}
            </Alert>
          )}
          <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1 }}>
            <Button variant="outlined" disabled={barred} onClick={() => begin.mutate(true)}>
              Rehearse it by dump and load
            </Button>
            {d.whyNotCarriedOut === null && (
              <Button variant="outlined" disabled={barred} onClick={() => begin.mutate(false)}>
                Begin it by dump and load
              </Button>
            )}
          </Box>
          <Box sx={{ color: 'text.secondary', mt: 1 }}>
            {d.whyNotCarriedOut === null
              ? 'Begun, an empty instance is made there and it is held: nobody is kept out before somebody says so.'
              : `It can be rehearsed alone: ${d.whyNotCarriedOut}.`}
          </Box>
        </>
      )}
    </SideSection>
  );
}
