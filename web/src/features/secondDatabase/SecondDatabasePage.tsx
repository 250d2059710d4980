import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { useDeferredValue, useState } from 'react';
import { api, got, type Schemas } from '../../api/client';
import { useAddress } from '../../app/address';
import { usePlaces, useZone } from '../../app/places';
import { useGo, usePremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { ChoiceField } from '../../shared/ChoiceField';
import { DatabaseField } from '../../shared/DatabaseField';
import { bytes, duration, localTime, readLocal, utc, writeLocal } from '../../shared/format';
import { FirstFull } from '../../shared/FirstFull';
import { LocalTimeField } from '../../shared/LocalTimeField';
import { isAsked, SettingsChoice, type SettingsWhen } from '../../shared/SettingsChoice';
import { Side } from '../../shared/Side';
import { SideSection } from '../../shared/SideSection';
import { Worksheet } from '../../shared/Worksheet';
import { Rounds, roundsOf } from '../moves/Rounds';
import { NamesTable } from './NamesTable';

const as = { name: 'as it was, under another name', copy: 'a copy as of now, elsewhere' };

/** A second database of one that is not there yet: what is chosen on the left, what comes of it on the right while one chooses. */
export default function SecondDatabasePage() {
  const premise = usePremise();
  const zone = useZone();
  const go = useGo();
  const may = useMay('operate');
  const things = usePlaces().data?.things ?? [];
  const hosts = things.filter((t) => t.kind === 'host').map((t) => t.id);
  const plans = useQuery({ queryKey: ['plans'], queryFn: () => got(api.GET('/api/plans')) });
  const choices = useQuery({
    queryKey: ['fleet', 'choices'],
    staleTime: 60_000,
    queryFn: () => got(api.GET('/api/choices')),
  });
  const [params, put] = useAddress();
  const database = params.get('database');
  const way = params.get('as') === 'copy' ? 'copy' : 'name';
  const target = params.get('target');
  const [written, setWritten] = useState<string | null>(null);
  const [id, setId] = useState('');
  const [host, setHost] = useState('first');
  const [plan, setPlan] = useState('caught');
  const [objective, setObjective] = useState('first');
  const [query, setQuery] = useState('');
  const [sizeGb, setSizeGb] = useState('');
  const [settings, setSettings] = useState<SettingsWhen>('');
  // Names belong to the database that brings them.
  const [said, setSaid] = useState<{ of: string | null; names: Record<string, string> }>({ of: null, names: {} });
  const wanted = said.of === database ? said.names : {};
  const when = written ?? (target ? writeLocal(Date.parse(target), zone) : '');
  const chosen = written === null && target ? Date.parse(target) : null;
  const instant = way === 'copy' ? null : (chosen ?? (when.trim() === '' ? null : readLocal(when, zone)));
  const size = sizeGb.trim() === '' ? null : Math.round(Number(sizeGb) * 1e9);
  const body: Schemas['SecondRequest'] = {
    database: database ?? '',
    id: id.trim(),
    target: instant === null ? null : utc(instant),
    loss: premise.loss ?? null,
    host: host === 'first' ? null : host,
    objective: objective === 'first' ? null : objective.slice(1),
    sizeBytes: size,
    plan: plan === 'caught' ? null : plan,
    names: Object.entries(wanted)
      .filter(([, to]) => to.trim() !== '')
      .map(([key, to]) => ({
        kind: key.split('/')[0] as Schemas['NameKind'],
        from: key.slice(key.indexOf('/') + 1),
        to: to.trim(),
      })),
    query: query.trim() || null,
  };
  const missing =
    database === null
      ? 'Choose a database.'
      : id.trim() === ''
        ? 'Say what it is called.'
        : way === 'name' && instant === null
          ? 'Say as of which instant.'
          : way === 'copy' && host === 'first'
            ? 'Say on which host it is to live.'
            : size !== null && !Number.isFinite(size)
              ? 'Its size is a number.'
              : null;
  const asked = useDeferredValue(JSON.stringify(body));
  const sheet = useQuery({
    queryKey: ['second', 'worksheet', asked],
    enabled: missing === null,
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () => got(api.POST('/api/second-databases/worksheet', { body: JSON.parse(asked) as typeof body })),
  });
  const begin = useMutation({
    mutationFn: () => got(api.POST('/api/second-databases', { body: { ...body, settings: settings || null } })),
    onSuccess: (run) => go(`/runs/${run.id}`),
  });
  const s = missing === null ? sheet.data : undefined;
  const failure = begin.error ?? sheet.error;
  return (
    <Worksheet side={360}>
      <Box sx={{ p: 2, display: 'flex', flexDirection: 'column', gap: 1.75, minWidth: 0, maxWidth: 800 }}>
        <h1 style={{ fontSize: 20, margin: 0 }}>A second database of one</h1>
        <Box sx={{ color: 'text.secondary' }}>
          Restored beside the first, looked at, and then a database of its own: with a name, a plan and a first backup
          of its own. The first one is not touched.
        </Box>
        <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5, alignItems: 'start' }}>
          <DatabaseField key={database} id={database} onPick={(d) => put({ database: d }, true)} />
          <ChoiceField label="What" value={way} of={as} width={260} onChange={(v) => put({ as: v }, true)} />
        </Box>
        <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5, alignItems: 'start' }}>
          <TextField
            label="It is called"
            value={id}
            onChange={(e) => setId(e.target.value)}
            helperText="letters, digits, . _ -"
            sx={{ width: 220 }}
          />
          {way === 'name' && (
            <LocalTimeField label="As of" zone={zone} value={when} empty="an instant" onChange={setWritten} />
          )}
          <ChoiceField
            label="Lives on"
            value={host}
            of={{
              first: way === 'copy' ? 'choose a host' : 'first that qualifies',
              ...Object.fromEntries(hosts.map((h) => [h, h])),
            }}
            width={190}
            onChange={setHost}
          />
          <TextField
            label="Room, GB"
            value={sizeGb}
            onChange={(e) => setSizeGb(e.target.value)}
            placeholder="as the first"
            slotProps={{ inputLabel: { shrink: true } }}
            sx={{ width: 120 }}
          />
          <ChoiceField
            label="Plan"
            value={plan}
            of={{
              caught: 'those that catch it',
              ...Object.fromEntries((plans.data?.plans ?? []).map((p) => [p.id, p.name])),
            }}
            width={220}
            onChange={setPlan}
          />
          <ChoiceField
            label="Objective"
            value={objective}
            of={{
              first: 'as the first',
              '/': 'none',
              ...Object.fromEntries((choices.data?.objectives ?? []).map((o) => [`/${o}`, o])),
            }}
            width={170}
            onChange={setObjective}
          />
          <TextField
            label="A query of your own to check"
            value={query}
            onChange={(e) => setQuery(e.target.value)}
            helperText={sheet.data?.queryHelp}
            slotProps={{ inputLabel: { shrink: true } }}
            sx={{ flex: 1, minWidth: 260 }}
          />
        </Box>
        {s && s.names.length > 0 && (
          <section aria-label="Names it brings">
            <h2 style={{ fontSize: 15, margin: '4px 0' }}>Names it brings</h2>
            <Box sx={{ color: 'text.secondary', mb: 0.5 }}>
              What somebody has on {s.host} already is called otherwise; write what, or leave what is proposed.
            </Box>
            <NamesTable
              names={s.names}
              wanted={wanted}
              onWant={(key, to) => setSaid({ of: database, names: { ...wanted, [key]: to } })}
            />
          </section>
        )}
      </Box>
      <Side label="What comes of it">
        <Box component="h2" sx={{ m: 0, mb: 1, fontSize: 15 }}>
          Before you act
        </Box>
        {missing && <Box sx={{ color: 'text.secondary' }}>{missing}</Box>}
        {s?.refused && (
          <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
            It cannot be made yet: {s.member?.startsWith('names') ? '' : `${s.member}: `}
            {s.refused}.
          </Alert>
        )}
        {failure && (
          <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
            {failure.message}
          </Alert>
        )}
        {s?.host && <Comes sheet={s} id={id.trim()} first={database ?? ''} zone={zone} />}
        <FirstFull first={s?.first} of="the copy" />
        <SettingsChoice settings={s?.settings} when={settings} zone={zone} onWhen={setSettings} />
        {s && (
          <Button
            variant="contained"
            size="large"
            disabled={
              !may ||
              isAsked(s.settings, settings) ||
              s.refused !== null ||
              s.namesUnknown !== null ||
              begin.isPending ||
              sheet.isPlaceholderData
            }
            onClick={() => begin.mutate()}
          >
            Restore it, and hold it
          </Button>
        )}
        {!may && <Box sx={{ color: 'text.secondary', mt: 1 }}>Only who operates or administers may make one.</Box>}
      </Side>
    </Worksheet>
  );
}

function Comes({
  sheet: s,
  id,
  first,
  zone,
}: {
  sheet: Schemas['SecondView'];
  id: string;
  first: string;
  zone: string;
}) {
  return (
    <Box sx={{ mb: 1.5 }}>
      <b>{id}</b> on <b>{s.host}</b>, as {first} {s.reaches ? 'was' : 'is'}
      <Box sx={{ fontSize: 17, fontWeight: 620 }} title={s.reaches ?? undefined}>
        {s.reaches ? localTime(s.reaches, zone) : 'when it has caught up'}
      </Box>
      {(s.lostSeconds ?? 0) > 0 && <Box>{duration(s.lostSeconds)} before the instant wanted.</Box>}
      <Box sx={{ my: 1 }}>
        To look at in about <b>{duration(s.seconds)}</b>; nobody is let in before it is released.{' '}
        <b>{bytes(s.movedBytes!)}</b> are moved at first, and it takes <b>{bytes(s.roomBytes!)}</b>.
      </Box>
      <Box sx={{ my: 1 }}>
        {s.plans.length === 0 ? (
          <Box component="span" sx={{ color: 'verdict.atRisk' }}>
            No plan takes it: nothing would protect it.
          </Box>
        ) : (
          <>
            Backed up by {s.plans.join(', ')}
            {s.firstBase ? `; at once: ${s.firstBase}` : ''}.
          </>
        )}
      </Box>
      {s.namesUnknown && (
        <Alert severity="warning" variant="outlined" sx={{ mb: 1 }}>
          Its names cannot be told now: {s.namesUnknown}.
        </Alert>
      )}
      {s.rounds.length > 0 && <Rounds rows={roundsOf(s.rounds, [])} following={null} />}
      {s.moreOpen.length > 0 && (
        <Box sx={{ my: 1.5 }}>
          <b>More open than its source:</b>
          <Box component="ul" sx={{ m: 0, pl: 2.5 }}>
            {s.moreOpen.map((o) => (
              <li key={o}>{o}</li>
            ))}
          </Box>
          It is released only with a reason.
        </Box>
      )}
      {s.doesNotComeAlong.length > 0 && (
        <SideSection title="Does not come along">
          <Box component="ul" sx={{ m: 0, pl: 2.5 }}>
            {s.doesNotComeAlong.map((o) => (
              <li key={o}>{o}</li>
            ))}
          </Box>
        </SideSection>
      )}
    </Box>
  );
}
