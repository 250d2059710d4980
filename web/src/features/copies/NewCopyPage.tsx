import Alert from '@mui/material/Alert';
import Autocomplete from '@mui/material/Autocomplete';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { useDeferredValue, useState } from 'react';
import { api, got, type Schemas } from '../../api/client';
import { useAddress } from '../../app/address';
import { useClock } from '../../app/live';
import { usePlaces, useZone } from '../../app/places';
import { useGo, usePremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { ChoiceField } from '../../shared/ChoiceField';
import { DatabaseField } from '../../shared/DatabaseField';
import { bytes, count, duration, localTime, readLocal, utc, writeLocal } from '../../shared/format';
import { isAsked, SettingsChoice, type SettingsWhen } from '../../shared/SettingsChoice';
import { Side } from '../../shared/Side';
import { Worksheet } from '../../shared/Worksheet';
import { LocalTimeField } from '../../shared/LocalTimeField';

const uses = ['view', 'clone', 'open-for-log'] as const;
type Use = (typeof uses)[number];

const titles: Record<Use, [title: string, what: string]> = {
  view: [
    'Look at a database',
    'Opened beside it for reading, as it was at an instant. Where its family can, sets are opened where they lie: a few rows of a large database cost minutes.',
  ],
  clone: [
    'Clones of a database',
    'Writable copies for tests: masked before anybody is let in, closed to all hosts but the named ones, and gone on their day.',
  ],
  'open-for-log': [
    'A database left open for log',
    'Restored beside it and not opened: further log is applied by hand, or by itself every so often, until it is needed. Then it is minutes behind, and opened in seconds.',
  ],
};

/** A view or clones that are not there yet: what is chosen on the left, what comes of it on the right while one chooses. */
export default function NewCopyPage() {
  const premise = usePremise();
  const zone = useZone();
  const go = useGo();
  const may = useMay('operate');
  const things = usePlaces().data?.things ?? [];
  const hosts = things.filter((t) => t.kind === 'host').map((t) => t.id);
  const [params, put] = useAddress();
  const database = params.get('database');
  const as = uses.find((u) => u === params.get('as')) ?? 'view';
  const target = params.get('target');
  // What was chosen before, to the millisecond, until something else is written.
  const [written, setWritten] = useState<string | null>(null);
  const when = written ?? (target ? writeLocal(Date.parse(target), zone) : '');
  // Three days, unless said otherwise: short enough to be thought about again.
  const [end, setEnd] = useState<string | null>(null);
  const [named, setNamed] = useState<string[]>([]);
  const [host, setHost] = useState('first');
  const [many, setMany] = useState('1');
  const [mask, setMask] = useState('');
  const [name, setName] = useState('');
  const [ends, setEnds] = useState('removed');
  const [every, setEvery] = useState('900');
  const [refreshed, setRefreshed] = useState('never');
  const [because, setBecause] = useState('');
  const [settings, setSettings] = useState<SettingsWhen>('');
  const clock = useClock();
  const ending = end ?? (clock ? writeLocal(Math.ceil(clock.now / 3_600_000) * 3_600_000 + 3 * 86_400_000, zone) : '');
  const chosen = written === null && target ? Date.parse(target) : null;
  const [instant, until] = [chosen ?? (when.trim() === '' ? null : readLocal(when, zone)), readLocal(ending, zone)];
  const wrongWhen = when.trim() !== '' && instant === null;
  const body = {
    database: database ?? '',
    as,
    target: instant === null ? null : utc(instant),
    loss: premise.loss ?? null,
    host: host === 'first' ? null : host,
    hosts: as === 'open-for-log' ? [] : named,
    count: as === 'clone' ? Number(many) || 0 : null,
    mask: as === 'clone' ? mask.split('\n').filter((m) => m.trim() !== '') : null,
    until: until === null ? null : utc(until),
    name: name.trim() || null,
    query: null,
    stays: ends === 'stays',
    everySeconds:
      as === 'open-for-log' && every !== 'hand'
        ? Number(every)
        : as === 'clone' && refreshed !== 'never'
          ? Number(refreshed)
          : null,
  };
  const asked = useDeferredValue(JSON.stringify(body));
  const sheet = useQuery({
    queryKey: ['copies', 'worksheet', asked],
    enabled: database !== null && until !== null && !wrongWhen,
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () => got(api.POST('/api/copies/worksheet', { body: JSON.parse(asked) as typeof body })),
  });
  const begin = useMutation({
    mutationFn: () =>
      got(
        api.POST('/api/copies', {
          body: { ...body, moreOpenBecause: because.trim() || null, settings: settings || null },
        }),
      ),
    onSuccess: (made) => go(made.ids.length === 1 ? `/runs/${made.ids[0]}` : '/copies'),
  });
  const s = sheet.data;
  const open = s?.moreOpen ?? [];
  return (
    <Worksheet side={340}>
      <Box sx={{ p: 2, display: 'flex', flexDirection: 'column', gap: 1.75, minWidth: 0, maxWidth: 760 }}>
        <h1 style={{ fontSize: 20, margin: 0 }}>{titles[as][0]}</h1>
        <Box sx={{ color: 'text.secondary' }}>{titles[as][1]}</Box>
        <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5 }}>
          <DatabaseField key={database} id={database} onPick={(d) => put({ database: d }, true)} />
          <ChoiceField
            label="What"
            value={as}
            of={{ view: 'a view, for reading', clone: 'clones, for tests', 'open-for-log': 'left open for log' }}
            width={190}
            onChange={(v) => put({ as: v }, true)}
          />
        </Box>
        <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5, alignItems: 'start' }}>
          <LocalTimeField label="As of" zone={zone} empty="the newest" value={when} onChange={setWritten} />
          <LocalTimeField label="Ends" zone={zone} empty="" value={ending} onChange={setEnd} />
          <ChoiceField
            label="Then"
            value={ends}
            of={{ removed: 'it is removed by itself', stays: 'people are told, and remove it' }}
            width={225}
            onChange={setEnds}
          />
        </Box>
        <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5, alignItems: 'start' }}>
          <ChoiceField
            label="Stands on"
            value={host}
            of={{ first: 'first that qualifies', ...Object.fromEntries(hosts.map((h) => [h, h])) }}
            width={190}
            onChange={setHost}
          />
          {as === 'open-for-log' ? (
            <ChoiceField
              label="Log is applied"
              value={every}
              of={{
                300: 'every 5 minutes',
                900: 'every 15 minutes',
                3600: 'every hour',
                86400: 'every day',
                hand: 'by hand',
              }}
              width={190}
              onChange={setEvery}
            />
          ) : (
            <Autocomplete
              multiple
              size="small"
              sx={{ minWidth: 300, flex: '1 1 300px' }}
              options={hosts}
              value={named}
              onChange={(_, v) => setNamed(v)}
              renderInput={(p) => (
                <TextField
                  {...p}
                  label="Hosts that get in"
                  helperText={
                    as === 'view' ? 'none: through the product alone' : 'nobody else does; it is tried from both'
                  }
                />
              )}
            />
          )}
          {as === 'clone' && (
            <ChoiceField
              label="Refreshed"
              value={refreshed}
              of={{ never: 'never', 86400: 'every day', 604800: 'every week' }}
              width={130}
              onChange={setRefreshed}
            />
          )}
          {as === 'clone' && (
            <TextField
              label="How many"
              value={many}
              onChange={(e) => setMany(e.target.value)}
              slotProps={{ htmlInput: { inputMode: 'numeric' } }}
              sx={{ width: 90 }}
            />
          )}
          <TextField
            label="Name"
            placeholder={database ? `${database}-${as}-…` : ''}
            value={name}
            onChange={(e) => setName(e.target.value)}
            slotProps={{ inputLabel: { shrink: true } }}
            sx={{ width: 220 }}
          />
        </Box>
        {as === 'clone' && (
          <TextField
            label="Statements that mask it, one a line"
            value={mask}
            onChange={(e) => setMask(e.target.value)}
            multiline
            minRows={3}
            maxRows={10}
            helperText={s?.maskHelp ? `such as ${s.maskHelp}` : 'all of them, or it is thrown away'}
            sx={{ '& textarea': { fontFamily: 'monospace', fontSize: 12.5 } }}
          />
        )}
      </Box>
      <Side label="What comes of it">
        <Box component="h2" sx={{ m: 0, mb: 1, fontSize: 15 }}>
          Before you act
        </Box>
        {database === null && <Box sx={{ color: 'text.secondary' }}>Choose a database.</Box>}
        {s?.host && (
          <Comes
            sheet={s}
            as={as}
            newest={instant === null}
            named={named}
            masked={body.mask?.length ?? 0}
            zone={zone}
          />
        )}
        {s?.refused && (
          <Alert
            severity={s.member === 'hosts' && named.length === 0 ? 'info' : 'error'}
            variant="outlined"
            sx={{ mb: 1.5 }}
          >
            It cannot be made yet: {s.member}: {s.refused}.
          </Alert>
        )}
        {sheet.error && (
          <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
            {sheet.error.message}
          </Alert>
        )}
        {begin.error && (
          <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
            {begin.error.message}
          </Alert>
        )}
        {open.length > 0 && (
          <Box sx={{ mb: 1.5 }}>
            <b>More open than its source:</b>
            <Box component="ul" sx={{ m: 0, mb: 1, pl: 2.5 }}>
              {open.map((o) => (
                <li key={o}>{o}</li>
              ))}
            </Box>
            <TextField
              label="Why it is made all the same"
              value={because}
              onChange={(e) => setBecause(e.target.value)}
              helperText="It is kept in the ledger."
              slotProps={{ htmlInput: { maxLength: 500 } }}
              fullWidth
            />
          </Box>
        )}
        <SettingsChoice settings={s?.settings} when={settings} zone={zone} onWhen={setSettings} />
        {s && (
          <Button
            variant="contained"
            size="large"
            disabled={
              !may ||
              isAsked(s.settings, settings) ||
              s.refused !== null ||
              begin.isPending ||
              sheet.isPlaceholderData ||
              (open.length > 0 && because.trim() === '')
            }
            onClick={() => begin.mutate()}
          >
            {as === 'view'
              ? 'Open it'
              : as === 'open-for-log'
                ? 'Restore it, and leave it open'
                : s.names.length > 1
                  ? `Make ${s.names.length} clones`
                  : 'Make the clone'}
          </Button>
        )}
        {!may && <Box sx={{ color: 'text.secondary', mt: 1 }}>Only who operates or administers may make a copy.</Box>}
      </Side>
    </Worksheet>
  );
}

function Comes({
  sheet: s,
  as,
  newest,
  named,
  masked,
  zone,
}: {
  sheet: Schemas['CopyWorksheetView'];
  as: Use;
  newest: boolean;
  named: string[];
  masked: number;
  zone: string;
}) {
  return (
    <Box sx={{ mb: 1.5 }}>
      {s.names.length > 1 ? `${count(s.names.length)} instances` : <b>{s.names[0]}</b>} on <b>{s.host}</b>, as of
      <Box sx={{ fontSize: 17, fontWeight: 620 }} title={s.reaches!}>
        {localTime(s.reaches!, zone)}
      </Box>
      {s.lostSeconds! > 0 && (
        <Box>
          {duration(s.lostSeconds)} {newest ? 'ago, the newest there is' : 'before the instant wanted'}.
        </Box>
      )}
      <Box sx={{ my: 1 }}>
        {as === 'open-for-log' ? (
          <>
            There in about <b>{duration(s.seconds)}</b>.
          </>
        ) : (
          <>
            Open in about <b>{duration(s.seconds! + s.checkSeconds!)}</b>, checks included.
          </>
        )}{' '}
        {s.mounted ? (
          <>
            Its sets stay where they lie; <b>{bytes(s.movedBytes!)}</b> of log are moved, and it takes no room. The sets
            stay as long as it stands.
          </>
        ) : (
          <>
            <b>{bytes(s.movedBytes!)}</b> are moved; it takes <b>{bytes(s.roomBytes!)}</b>.
          </>
        )}
      </Box>
      <Box sx={{ color: 'text.secondary' }}>
        {as === 'clone' &&
          (masked > 0
            ? 'It is masked before anybody is let in; where a statement fails it is thrown away. '
            : 'It is not masked: what is in it is as real as in its database. ')}
        {named.length > 0
          ? `${named.join(', ')} ${named.length === 1 ? 'gets' : 'get'} in, and nobody else.`
          : as === 'view' && 'It is looked at through the product.'}{' '}
        {as === 'open-for-log' && 'Nobody gets in. It counts as no way back until it is opened and checked.'}
        {as === 'view' && 'Nothing can be written to it.'}
      </Box>
    </Box>
  );
}
