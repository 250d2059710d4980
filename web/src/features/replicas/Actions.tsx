import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import FormControlLabel from '@mui/material/FormControlLabel';
import MenuItem from '@mui/material/MenuItem';
import Switch from '@mui/material/Switch';
import TextField from '@mui/material/TextField';
import ToggleButton from '@mui/material/ToggleButton';
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState, type ReactNode } from 'react';
import { api, got, type Schemas } from '../../api/client';
import { useGo } from '../../app/premise';
import { useMay } from '../../app/session';
import { Failure } from '../../shared/Failure';
import { bytes, duration, localTime, readLocal, writeLocal } from '../../shared/format';
import { Losses } from './Losses';

type View = Schemas['ReplicaView'];
type Act = 'hold' | 'mend' | 'look' | 'takeOver' | 'end';

/** What can be done with a replica; of each, before it is begun, what comes of it. */
export function Actions({ view }: { view: View }) {
  const [act, setAct] = useState<Act | null>(null);
  const id = view.row.id;
  const [operate, administer] = [useMay('operate'), useMay('administer')];
  const before = useQuery({
    queryKey: ['replicas', id, 'before'],
    enabled: act !== null,
    refetchInterval: 5000,
    queryFn: () => got(api.GET('/api/replicas/{id}/before', { params: { path: { id } } })),
  });
  if (view.row.state === 'ended') return null;
  const held = view.row.heldByPerson !== null;
  const words: Record<Act, string> = {
    hold: held ? 'Resume' : 'Hold',
    mend: 'Mend',
    look: 'Look at it',
    takeOver: 'Take over',
    end: 'End it',
  };
  return (
    <Box component="section" aria-label="Act">
      <ToggleButtonGroup
        size="small"
        exclusive
        value={act}
        onChange={(_, value: Act | null) => setAct(value)}
        aria-label="What to do with it"
        sx={{ flexWrap: 'wrap' }}
      >
        {(Object.keys(words) as Act[]).map((a) => (
          <ToggleButton key={a} value={a} sx={{ textTransform: 'none', py: 0.25 }}>
            {words[a]}
          </ToggleButton>
        ))}
      </ToggleButtonGroup>
      {act && before.error && <Failure error={before.error} />}
      {act && before.data && (
        <Before key={act} act={act} view={view} before={before.data} may={act === 'end' ? administer : operate} />
      )}
    </Box>
  );
}

function Before({
  act,
  view: v,
  before: b,
  may,
}: {
  act: Act;
  view: View;
  before: Schemas['BeforeView'];
  may: boolean;
}) {
  const go = useGo();
  const id = v.row.id;
  const cannot = b.cannot[act] ?? null;
  const params = { params: { path: { id } } };
  const begin = useMutation({
    mutationFn: (what: () => Promise<Schemas['RunBegun']>) => what(),
    onSuccess: (run) => go(`/runs/${run.id}`),
  });
  const [group, setGroup] = useState(b.together.length > 1);
  const [by, setBy] = useState<string>('');
  const [host, setHost] = useState('');
  const [at, setAt] = useState('');
  const [hours, setHours] = useState('4');
  const [query, setQuery] = useState('');
  const [overlay, setOverlay] = useState(false);
  const held = v.row.heldByPerson !== null;
  const start = (what: () => Promise<Schemas['RunBegun']>, word: string, wrong?: string | null) => (
    <Box sx={{ mt: 1.25, display: 'flex', gap: 1.5, alignItems: 'center', flexWrap: 'wrap' }}>
      <Button
        variant="contained"
        disabled={!may || begin.isPending || Boolean(cannot) || Boolean(wrong)}
        onClick={() => begin.mutate(what)}
      >
        {word}
      </Button>
      <Box sx={{ color: 'text.secondary' }}>
        {wrong ?? cannot ?? (may ? '' : act === 'end' ? 'Who administers does this.' : 'Who operates does this.')}
      </Box>
    </Box>
  );
  const together =
    b.together.length > 1 ? (
      <FormControlLabel
        control={<Switch size="small" checked={group} onChange={(_, on) => setGroup(on)} />}
        label={`with all of its group here: ${b.together.join(', ')}`}
      />
    ) : null;
  let body: ReactNode;
  if (act === 'hold') {
    body = (
      <>
        {held
          ? `It goes on from where it stands, and should be in step in ${duration(v.row.catchUpSeconds)}.`
          : `It receives nothing more until somebody resumes it, and what it could lose grows by a second each second. ${
              b.toleratedOutageSeconds === null
                ? 'Its source keeps log for it without a limit that is stated: watch the room there.'
                : `After ${duration(b.toleratedOutageSeconds)} it can no longer simply go on.`
            }`}
        <div>{together}</div>
        {start(
          () =>
            held
              ? got(api.POST('/api/replicas/{id}/resume', { ...params, body: { group } }))
              : got(api.POST('/api/replicas/{id}/hold', { ...params, body: { group } })),
          held ? 'Resume it' : 'Hold it',
        )}
      </>
    );
  } else if (act === 'mend') {
    const ways = v.mending;
    const chosen = ways.find((w) => w.by === by) ?? ways[0];
    body =
      ways.length === 0 ? (
        'It goes on by itself: there is nothing to mend.'
      ) : (
        <>
          It counts for nothing until it is back; then it proves itself: a marker written there is read here, and both
          hold the same.
          <TextField
            select
            label="By"
            value={chosen?.by ?? ''}
            onChange={(e) => setBy(e.target.value)}
            sx={{ mt: 1.25, width: 340, display: 'block' }}
          >
            {ways.map((w) => (
              <MenuItem key={w.by} value={w.by} disabled={w.seconds === null}>
                {{ log: 'log', set: 'a set left unopened, then log', anew: 'a copy of the database' }[w.by]}
                {w.seconds === null ? ', not possible' : `, ${duration(w.seconds)}`}
              </MenuItem>
            ))}
          </TextField>
          {start(
            () => got(api.POST('/api/replicas/{id}/mend', { ...params, body: { by: chosen?.by ?? null } })),
            'Mend it',
            chosen?.seconds === null ? `not possible: ${chosen.whyNot}` : null,
          )}
        </>
      );
  } else if (act === 'look') {
    const wanted = at === '' ? null : readLocal(at, v.timeZone);
    const until = Number(hours) > 0 ? Date.parse(v.at) + Number(hours) * 3_600_000 : null;
    const wrong =
      at !== '' && wanted === null ? 'that is no instant' : until === null ? 'say for how many hours' : null;
    body = (
      <>
        A copy of what it holds is opened for reading; the replica goes on receiving. It can be opened from{' '}
        {b.opensFrom ? localTime(b.opensFrom, v.timeZone) : 'no instant known'} to{' '}
        {b.opensTo ? localTime(b.opensTo, v.timeZone) : 'none'}. It ends by itself.
        <Box sx={{ display: 'flex', gap: 1.25, flexWrap: 'wrap', mt: 1.25 }}>
          <TextField
            select
            label="On"
            value={host || (b.opensOn[0] ?? '')}
            onChange={(e) => setHost(e.target.value)}
            sx={{ width: 140 }}
          >
            {b.opensOn.map((h) => (
              <MenuItem key={h} value={h}>
                {h}
              </MenuItem>
            ))}
          </TextField>
          <TextField
            label="As it was"
            value={at}
            placeholder="last"
            onChange={(e) => setAt(e.target.value)}
            onFocus={() => at === '' && b.opensTo && setAt(writeLocal(Date.parse(b.opensTo), v.timeZone))}
            sx={{ width: 190 }}
          />
          <TextField label="For hours" value={hours} onChange={(e) => setHours(e.target.value)} sx={{ width: 100 }} />
          <TextField
            label="A query, if you like"
            value={query}
            onChange={(e) => setQuery(e.target.value)}
            sx={{ width: 220 }}
          />
        </Box>
        <FormControlLabel
          control={<Switch size="small" checked={overlay} onChange={(_, on) => setOverlay(on)} />}
          label="recovered in an overlay: it takes writes, which go with it"
        />
        {start(
          () =>
            got(
              api.POST('/api/replicas/{id}/look', {
                ...params,
                body: {
                  host: host || (b.opensOn[0] ?? ''),
                  at: wanted === null ? null : new Date(wanted).toISOString(),
                  until: until === null ? null : new Date(until).toISOString(),
                  query: query || null,
                  overlay,
                },
              }),
            ),
          'Open it',
          wrong,
        )}
      </>
    );
  } else if (act === 'takeOver') {
    const t = b.takeOver;
    body = (
      <>
        <Box>
          {v.row.databaseName} lives on <b>{t.host}</b> from then on; the old side on {v.primaryHost} is kept out.{' '}
          {t.lostSeconds > 0 ? (
            <b style={{ color: 'var(--mui-palette-verdict-breached)' }}>
              Up to {duration(t.lostSeconds)}
              {t.lostBytes !== null && `, ${bytes(t.lostBytes)} of log,`} may be lost.
            </b>
          ) : (
            <b>Nothing is lost.</b>
          )}{' '}
          {t.seconds !== null &&
            `It takes ${duration(t.seconds)}; with noticing and deciding the service is back in ${duration(t.serviceSeconds)}.`}
        </Box>
        <Box component="ul" sx={{ m: 0, mt: 0.75, pl: 2.5 }}>
          <li>
            A new branch begins; until its first base is there, backups are those of the old branch.{' '}
            {t.firstBase ? `The run takes one: ${t.firstBase}.` : 'No plan takes one: cover it first.'}
          </li>
          {t.others.map((o) => (
            <li key={o.id}>
              {o.id} {o.follows ? 'follows' : `may not follow: ${o.whyNot}`}
            </li>
          ))}
          {t.needsApproval && <li>A second person approves it, because something may be lost.</li>}
          <li>There is no way back by itself: coming home is a take over in the other direction.</li>
          {together && group && <li>All stop at one instant, so that they fit each other.</li>}
        </Box>
        {together}
        {start(
          () =>
            got(
              api.POST('/api/replicas/{id}/take-over', {
                ...params,
                body: { host: null, group: together !== null && group },
              }),
            ),
          t.needsApproval ? 'Ask for it' : 'Take over',
          t.whyNot ? `it cannot: ${t.whyNot}` : null,
        )}
      </>
    );
  } else {
    body = (
      <>
        What it was worth until now stays known; from then on it counts for nothing, and its source keeps no log for it.
        {b.fed.length > 0 &&
          ` ${b.fed.join(', ')} ${b.fed.length === 1 ? 'is' : 'are'} fed by its source from then on.`}
        <Losses changes={b.without} word="without it" />
        {start(() => got(api.POST('/api/replicas/{id}/remove', params)), 'End it')}
      </>
    );
  }

  return (
    <Box sx={{ border: 1, borderColor: 'divider', borderLeft: 3, borderLeftColor: 'primary.main', p: 1.5, mt: 1 }}>
      <Box component="h2" sx={{ m: 0, mb: 0.5, fontSize: 14 }}>
        Before you act
      </Box>
      {body}
      {begin.error && (
        <Alert severity="error" variant="outlined" sx={{ mt: 1 }}>
          {begin.error.message}
        </Alert>
      )}
    </Box>
  );
}
