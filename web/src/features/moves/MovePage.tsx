import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { useDeferredValue, useState } from 'react';
import { api, got, type Schemas } from '../../api/client';
import { useAddress } from '../../app/address';
import { usePlaces, useZone } from '../../app/places';
import { useGo } from '../../app/premise';
import { useMay } from '../../app/session';
import { ChoiceField } from '../../shared/ChoiceField';
import { DatabaseField } from '../../shared/DatabaseField';
import { bytes, duration } from '../../shared/format';
import { FirstFull } from '../../shared/FirstFull';
import { isAsked, SettingsChoice, type SettingsWhen } from '../../shared/SettingsChoice';
import { Side } from '../../shared/Side';
import { SideSection } from '../../shared/SideSection';
import { Worksheet } from '../../shared/Worksheet';
import { ByDump } from './ByDump';

const figures = [
  ['rate', 'Moved, MB a second', 1e6],
  ['change', 'Changes, MB a second', 1e6],
  ['window', 'Read-only for at most, seconds', 1],
  ['round', 'Each round, fixed seconds', 1],
  ['metadata', 'Accounts, jobs, settings, seconds', 1],
  ['check', 'Check, seconds', 1],
] as const;

/** A move with little downtime: the figures on the left, its rounds and whether the last one fits on the right. */
export default function MovePage() {
  const [params, put] = useAddress();
  const things = usePlaces().data?.things ?? [];
  const hosts = Object.fromEntries(things.filter((t) => t.kind === 'host').map((t) => [t.id, t.id]));
  const [database, to] = [params.get('database'), params.get('to') ?? ''];
  const said = Object.fromEntries(
    figures.map(([key, , unit]) => {
      const text = params.get(key);
      return [key, text === null ? null : Number(text) * unit];
    }),
  ) as Record<(typeof figures)[number][0], number | null>;
  const wrong = figures
    .filter(([key]) => said[key] !== null && !Number.isFinite(said[key]))
    .map(([key]) => key as string);
  const asked = useDeferredValue(JSON.stringify({ database, to, ...said }));
  const sheet = useQuery({
    queryKey: ['moves', asked],
    enabled: database !== null && to !== '' && wrong.length === 0,
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () =>
      got(
        api.POST('/api/moves/worksheet', {
          body: { read: null, most: null, ...(JSON.parse(asked) as { database: string; to: string } & typeof said) },
        }),
      ),
  });
  const m = sheet.isError ? undefined : sheet.data;
  const go = useGo();
  const may = useMay('operate');
  const zone = useZone();
  const [settings, setSettings] = useState<SettingsWhen>('');
  const begin = useMutation({
    mutationFn: () =>
      got(
        api.POST('/api/moves', {
          body: { read: null, most: null, database: database!, to, ...said, settings: settings || null },
        }),
      ),
    onSuccess: (r) => go(`/runs/${r.id}`),
  });
  const known: Record<string, number> = m
    ? {
        rate: m.rate / 1e6,
        change: m.change / 1e6,
        window: m.window,
        round: m.round,
        metadata: m.metadata,
        check: m.check,
      }
    : {};
  return (
    <Worksheet side={340}>
      <Box sx={{ p: 2, display: 'flex', flexDirection: 'column', gap: 1.75, minWidth: 0 }}>
        <h1 style={{ fontSize: 20, margin: 0 }}>A move with little downtime</h1>
        <Box sx={{ color: 'text.secondary', maxWidth: 720 }}>
          Everything is copied while it stays open, then what changed meanwhile, again and again; the last round is made
          read-only. Whether that fits is arithmetic, and it is done before anything is touched.
        </Box>
        <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5 }}>
          <DatabaseField key={database} id={database} onPick={(d) => put({ database: d }, true)} />
          <ChoiceField label="To" value={to} of={hosts} width={170} onChange={(v) => put({ to: v }, true)} />
        </Box>
        <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5, alignItems: 'start' }}>
          {figures.map(([key, label]) => (
            <TextField
              key={key}
              label={label}
              value={params.get(key) ?? ''}
              placeholder={known[key] === undefined ? '' : `${Math.round(known[key] * 100) / 100}`}
              onChange={(e) => put({ [key]: e.target.value.trim() || null }, true)}
              error={wrong.includes(key)}
              helperText={
                wrong.includes(key)
                  ? 'a number'
                  : key === 'rate'
                    ? m?.rateFrom
                    : key === 'change'
                      ? m?.changeFrom
                      : undefined
              }
              slotProps={{ inputLabel: { shrink: true }, htmlInput: { inputMode: 'decimal' } }}
              sx={{ width: 225 }}
            />
          ))}
        </Box>
        {m && <Rounds move={m} />}
      </Box>
      <Side label="What comes of it">
        <Box component="h2" sx={{ m: 0, mb: 1, fontSize: 15 }}>
          What comes of it
        </Box>
        {!m && !sheet.error && <Box sx={{ color: 'text.secondary' }}>Choose a database, and where it is to live.</Box>}
        {sheet.error && (
          <Alert severity="error" variant="outlined">
            {sheet.error.message}
          </Alert>
        )}
        {m && <Comes move={m} onRate={(r) => put({ rate: String(r) }, true)} />}
        {begin.error && (
          <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
            {begin.error.message}
          </Alert>
        )}
        {m && m.why === null && m.whyNotBegun !== null && (
          <Box sx={{ color: 'text.secondary' }}>It cannot be begun here: {m.whyNotBegun}.</Box>
        )}
        {m && may && m.whyNotBegun === null && (
          <>
            <FirstFull first={m.first} of="the move" />
            <SettingsChoice settings={m.settings} when={settings} zone={zone} onWhen={setSettings} />
            <Button
              variant="contained"
              size="large"
              disabled={!m.fits || isAsked(m.settings, settings) || begin.isPending || sheet.isPlaceholderData}
              onClick={() => begin.mutate()}
            >
              Begin the move
            </Button>
            <Box sx={{ color: 'text.secondary', mt: 1 }}>
              It is brought up on {m.to} and follows; nobody is kept out before somebody says so.
            </Box>
          </>
        )}
        {m && database !== null && (
          <Box sx={{ mt: 1.5 }}>
            <ByDump key={`${database} ${m.to}`} database={database} move={m} zone={zone} may={may} />
          </Box>
        )}
      </Side>
    </Worksheet>
  );
}

/** The rounds as bars that should shrink; the read-only one stands apart, against its window. */
function Rounds({ move: m }: { move: Schemas['MoveSheet'] }) {
  const longest = Math.max(...m.rounds.map((r) => r.seconds));
  // Many rounds of nearly the same length say no more than a few.
  const shown = m.rounds.length > 14 ? [...m.rounds.slice(0, 12), m.rounds[m.rounds.length - 1]!] : m.rounds;
  const number = (i: number) => (i === shown.length - 1 ? m.rounds.length - 1 : i);
  const scale = Math.max(m.downtimeSeconds, m.window, 1);
  const parts: [string, number, string][] = [
    ['last round', m.last.seconds, 'primary.main'],
    ['accounts, jobs, settings', m.metadata, 'verdict.atRisk'],
    ['check', m.check, 'text.secondary'],
  ];
  return (
    <>
      <Box component="section" aria-label="Rounds while it stays open">
        <Box component="h2" sx={{ m: 0, mb: 0.5, fontSize: 14 }}>
          Rounds while it stays open
        </Box>
        {shown.map((r, i) => (
          <Box key={i}>
            {i === 12 && m.rounds.length > 14 && (
              <Box sx={{ fontSize: 12, color: 'text.secondary' }}>… {m.rounds.length - 13} more …</Box>
            )}
            <Box
              sx={{
                display: 'grid',
                gridTemplateColumns: '64px minmax(60px, 1fr) 92px 84px',
                columnGap: 1.5,
                alignItems: 'center',
                py: 0.15,
              }}
            >
              <Box sx={{ color: 'text.secondary' }}>{number(i) === 0 ? 'all of it' : `round ${number(i)}`}</Box>
              <Box
                aria-hidden
                sx={{ height: 9, minWidth: 2, width: `${(r.seconds / longest) * 100}%`, bgcolor: 'primary.main' }}
              />
              <Box sx={{ textAlign: 'right' }}>{duration(r.seconds)}</Box>
              <Box sx={{ textAlign: 'right', color: 'text.secondary' }}>{bytes(r.bytes)}</Box>
            </Box>
          </Box>
        ))}
      </Box>
      <Box component="section" aria-label="Read-only">
        <Box component="h2" sx={{ m: 0, mb: 0.5, fontSize: 14 }}>
          Read-only: {duration(m.downtimeSeconds)} of {duration(m.window)}
        </Box>
        <Box sx={{ position: 'relative', pt: 0.5, pb: 2.25 }}>
          <Box sx={{ display: 'flex', height: 18, width: `${(m.downtimeSeconds / scale) * 100}%` }}>
            {parts.map(([what, seconds, colour]) => (
              <Box
                key={what}
                title={`${what}: ${duration(seconds)}`}
                sx={{ height: 18, width: `${(seconds / m.downtimeSeconds) * 100}%`, bgcolor: colour }}
              />
            ))}
          </Box>
          <Box
            aria-hidden
            sx={{
              position: 'absolute',
              top: 0,
              height: 30,
              left: `calc(${(m.window / scale) * 100}% - 2px)`,
              borderLeft: 2,
              borderColor: m.fits ? 'primary.main' : 'verdict.breached',
            }}
          />
          <Box sx={{ fontSize: 12, color: 'text.secondary', mt: 0.5 }}>
            {parts.map(([what, seconds]) => `${what} ${duration(seconds)}`).join(' · ')}
          </Box>
        </Box>
      </Box>
    </>
  );
}

function Comes({ move: m, onRate }: { move: Schemas['MoveSheet']; onRate: (mb: number) => void }) {
  const mb = (n: number) => `${Math.round(n / 1e5) / 10} MB/s`;
  return (
    <>
      <Box sx={{ mb: 1.5 }}>
        <Box sx={{ color: 'text.secondary' }}>nobody can write for</Box>
        <Box sx={{ fontSize: 22, fontWeight: 650, color: m.fits ? undefined : 'verdict.breached' }}>
          {duration(m.downtimeSeconds)}
        </Box>
        {m.fits
          ? `within the ${duration(m.window)} it may`
          : `${duration(m.downtimeSeconds - m.window)} more than it may`}
      </Box>
      <Box sx={{ mb: 1.5 }}>
        {bytes(m.size)} from <b>{m.from}</b> to <b>{m.to}</b>: {m.rounds.length}{' '}
        {m.rounds.length === 1 ? 'round' : 'rounds'} while it stays open, <b>{duration(m.totalSeconds)}</b> in all.
        Until writes go to the new side nothing is lost by going back.
      </Box>
      {m.why !== null && (
        <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
          It cannot live there: {m.why}.
        </Alert>
      )}
      {m.remedy && (
        <SideSection level="h3" title="Why it never fits at this rate">
          <Box sx={{ color: 'text.secondary', mb: 0.75 }}>
            While {mb(m.rate)} are moved, {mb(m.change)} change
            {m.read !== null ? `, and the source is read whole each round at ${mb(m.read)}` : ''}; after{' '}
            {m.rounds.length} {m.rounds.length === 1 ? 'round' : 'rounds'} the next would still take{' '}
            <b>{duration(m.last.seconds)}</b>. Any one of these is enough:
          </Box>
          <Box component="ul" sx={{ my: 0, pl: 2.25 }}>
            <li>
              a window of <b>{duration(m.remedy.window)}</b>
            </li>
            {m.remedy.rate !== null && (
              <li>
                <b>{mb(m.remedy.rate)}</b> moved{' '}
                <Box
                  component="button"
                  onClick={() => onRate(Math.ceil(m.remedy!.rate! / 1e5) / 10)}
                  sx={{
                    font: 'inherit',
                    color: 'primary.main',
                    border: 0,
                    bgcolor: 'transparent',
                    cursor: 'pointer',
                    p: 0,
                    textDecoration: 'underline',
                  }}
                >
                  try it
                </Box>
              </li>
            )}
            {m.remedy.change !== null && (
              <li>
                <b>{mb(m.remedy.change)}</b> that change, such as in a quiet week
              </li>
            )}
          </Box>
        </SideSection>
      )}
    </>
  );
}
