import Box from '@mui/material/Box';
import type { Schemas } from '../../api/client';
import { useZone } from '../../app/places';
import { Figure } from '../../shared/Figure';
import { duration, localTime } from '../../shared/format';
import { SideSection } from '../../shared/SideSection';

/** What a change measured beside what was expected: its parts, what broke, and how fast it answers. */
export function ChangeFigures({ change: c }: { change: Schemas['ChangeRunView'] }) {
  const zone = useZone();
  const m = c.measured;
  const took = m && m.parts.length > 0 ? m.seconds : null;
  const after = m?.watched ?? m?.after ?? null;
  const differences = m
    ? [...m.differences, ...m.slower.filter((s) => !m.differences.some((d) => d.what === s.what))]
    : [];
  return (
    <>
      <Box sx={{ display: 'flex', flexDirection: 'column', gap: 1.25, mb: 2 }}>
        <Figure word="the change took" seconds={took} note="measured" unknown="no part of it is done yet" />
        {c.rehearsal && m && took !== null && (
          <Figure
            word="expected in production"
            seconds={m.ownSeconds}
            note={m.scaled ? 'scaled by the rates of the two hosts' : 'the host is as fast'}
          />
        )}
        {c.expected && (
          <Figure
            word="expected"
            seconds={c.expected.seconds}
            note={`${duration(c.expected.from)} to ${duration(c.expected.to)}, rehearsed`}
          />
        )}
        {m?.outSeconds != null && <Figure word="nobody could work for" seconds={m.outSeconds} note="measured" />}
      </Box>
      {c.lastTurn !== null && (
        <SideSection title="The way back">
          {duration(c.wayBackSeconds)} to put it back; by <b>{localTime(c.lastTurn, zone)}</b> at the latest, to be back
          before the window ends at {localTime(c.windowEnd!, zone, false)}.
        </SideSection>
      )}
      {m && m.parts.length > 0 && (
        <SideSection title="Its parts">
          {m.parts.map((p) => (
            <Box key={p.name} sx={{ display: 'flex', justifyContent: 'space-between', gap: 1 }}>
              <span>{p.name}</span>
              <b>{duration(p.seconds)}</b>
            </Box>
          ))}
        </SideSection>
      )}
      {m?.before && after && (
        <SideSection title="Before and after">
          {differences.length === 0 && <Box sx={{ mb: 0.5 }}>Nothing is different that was looked at.</Box>}
          {differences.map((d) => (
            <Box key={d.what + d.detail} sx={{ mb: 0.5, color: d.broke ? 'verdict.breached' : undefined }}>
              <b>{d.what}</b> {d.detail}
            </Box>
          ))}
          <Queries before={m.before.queries} after={after.queries} />
        </SideSection>
      )}
      {m?.branch && (
        <SideSection title="What no longer fits">
          Sets taken before {localTime(m.branch.startsAt, zone)} bring back instants up to then alone, on the version
          before {m.branch.version}.
        </SideSection>
      )}
      {m && m.left.length > 0 && (
        <SideSection title="Do not follow">
          {m.left.map((l) => (
            <Box key={l}>{l}</Box>
          ))}
        </SideSection>
      )}
      {c.notTested.length > 0 && (
        <SideSection title="What it cannot show">
          <Box component="ul" sx={{ my: 0, pl: 2.25, color: 'text.secondary' }}>
            {c.notTested.map((n) => (
              <li key={n}>{n}</li>
            ))}
          </Box>
        </SideSection>
      )}
    </>
  );
}

/** Each named query as two bars on one scale: before above, after below. */
function Queries({ before, after }: { before: Schemas['QueryTook'][]; after: Schemas['QueryTook'][] }) {
  const longest = Math.max(0.001, ...before.map((q) => q.seconds), ...after.map((q) => q.seconds));
  const seconds = (s: number) => (s < 1 ? `${Math.round(s * 1000)} ms` : s < 10 ? `${s.toFixed(2)} s` : duration(s));
  return (
    <>
      {before.map((b) => {
        const a = after.find((q) => q.name === b.name);
        return (
          <Box
            key={b.name}
            sx={{
              display: 'grid',
              gridTemplateColumns: '96px minmax(0, 1fr) 64px',
              columnGap: 1,
              alignItems: 'center',
              mt: 0.5,
            }}
          >
            <Box sx={{ gridRow: 'span 2', overflowWrap: 'anywhere' }}>{b.name}</Box>
            <Box
              aria-hidden
              sx={{ height: 6, width: `${(b.seconds / longest) * 100}%`, border: 1, borderColor: 'text.secondary' }}
            />
            <Box sx={{ textAlign: 'right', color: 'text.secondary', fontSize: 12 }}>
              {b.error === null ? seconds(b.seconds) : 'fails'}
            </Box>
            <Box
              aria-hidden
              sx={{ height: 6, width: `${((a?.seconds ?? 0) / longest) * 100}%`, bgcolor: 'primary.main' }}
            />
            <Box sx={{ textAlign: 'right', fontSize: 12 }}>
              {!a ? '' : a.error === null ? seconds(a.seconds) : 'fails'}
            </Box>
          </Box>
        );
      })}
    </>
  );
}
