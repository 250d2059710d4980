import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { useCallback, useState } from 'react';
import { Link, useLocation, useParams } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useAddress } from '../../app/address';
import { useGo, usePremise, withPremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { CoverStrip } from '../../shared/CoverStrip';
import { DatabaseField } from '../../shared/DatabaseField';
import { Failure } from '../../shared/Failure';
import { localTime, readLocal, utc, writeLocal } from '../../shared/format';
import { RangeButtons } from '../../shared/RangeButtons';
import { Said } from '../../shared/Said';
import type { SettingsWhen } from '../../shared/SettingsChoice';
import { useCover, useInstantKeys } from '../../shared/useCover';
import { Worksheet } from '../../shared/Worksheet';
import { RunsTable } from '../runs/RunsTable';
import { CommitList } from './CommitList';
import { Consequence, type How } from './Consequence';
import { PathCard } from './PathCard';
import { WaysTable } from './WaysTable';

/** What, when, how: one worksheet, with what follows from it beside it. */
export default function RecoverPage() {
  const { id } = useParams();
  return id ? <WayBack key={id} id={id} /> : <Choose />;
}

function Choose() {
  const go = useGo();
  const { search } = useLocation();
  const runs = useQuery({
    queryKey: ['runs', 'restores'],
    queryFn: () =>
      got(
        api.GET('/api/runs', {
          params: {
            query: {
              kind: 'restore,restore-in-place,restore-together,second-database,view,clone,open-for-log,apply-log,refresh,rehearsal,removal',
              take: 30,
            },
          },
        }),
      ),
  });
  return (
    <Box sx={{ p: 2 }}>
      <h1 style={{ fontSize: 20, margin: '0 0 12px' }}>Recover</h1>
      <DatabaseField id={null} onPick={(d) => go(`/recover/${d}`)} />
      <Box component="p" sx={{ color: 'text.secondary' }}>
        Choose a database, then the instant to go back to. Those that belong together are brought to one instant:{' '}
        <Link to={withPremise('/recover/several', search)}>several at once</Link>. What stands of earlier restores,
        views and clones: <Link to={withPremise('/copies', search)}>copies in use</Link>. Another host with little
        downtime: <Link to={withPremise('/moves/new', search)}>a move</Link>. Beside it, under another name or on
        another host: <Link to={withPremise('/second/new', search)}>a second database</Link>. Another version or a
        script, rehearsed first: <Link to={withPremise('/changes', search)}>changes</Link>.
      </Box>
      <h2 style={{ fontSize: 15 }}>Restores and rehearsals</h2>
      <RunsTable runs={runs.data?.runs ?? []} empty={runs.isSuccess ? 'No restore was begun here yet.' : ''} />
    </Box>
  );
}

function WayBack({ id }: { id: string }) {
  const premise = usePremise();
  const go = useGo();
  const mayOperate = useMay('operate');
  const [params, put] = useAddress();
  const [instance, setInstance] = useState('');
  const [query, setQuery] = useState('');
  const [checks, setChecks] = useState('');
  const [ends, setEnds] = useState('');
  const [settings, setSettings] = useState<SettingsWhen>('');
  const view = useQuery({
    queryKey: ['database', id, 'view', premise.query],
    placeholderData: keepPreviousData,
    queryFn: () => got(api.GET('/api/databases/{id}', { params: { path: { id }, query: premise.query } })),
  });
  const { cover, zoom, show, days } = useCover(id);
  const d = view.data;
  const zone = d?.timeZone ?? 'UTC';
  const targetText = params.get('target');
  // Without a choice: the latest instant that can be had.
  const target = targetText ? Date.parse(targetText) : d?.supposed.latest ? Date.parse(d.supposed.latest) : null;
  // What of the way is decided; the rest follows from the rule.
  const [host, base, without] = ['host', 'base', 'without'].map((k) => params.get(k));
  const way = { ...(host && { host }), ...(base && { base }), ...(without && { without }) };
  const take = (choice: Schemas['ChoiceView']) => put({ ...choice });
  const choose = useCallback((at: number) => put({ target: utc(at), before: null, commit: null }), [put]);
  // One commit that must not be in it, where the engine can stop so exactly.
  const before = params.get('before');
  useInstantKeys(cover.data, target, choose);
  const ways = useQuery({
    queryKey: ['database', id, 'ways', target, way, premise.query],
    enabled: target !== null && !Number.isNaN(target),
    placeholderData: keepPreviousData,
    queryFn: () =>
      got(
        api.GET('/api/recover/{id}', {
          params: { path: { id }, query: { target: utc(target!), ...premise.query, ...way } },
        }),
      ),
  });
  const w = ways.data;
  const start = useMutation({
    mutationFn: async (how: How) => {
      const answer = await got(
        api.POST('/api/recover', {
          body: {
            database: id,
            // What is shown is what is done: the target that the prechecks and figures beside the button are of.
            target: w!.target,
            loss: premise.loss,
            at: premise.at,
            host: how === 'inPlace' ? null : (host ?? null),
            base: base ?? null,
            without: without ?? null,
            instance: how === 'inPlace' ? null : instance || null,
            query: query || null,
            checkWithin: checks.trim() === '' ? null : Number(checks.replace(',', '.')) * 60,
            rehearse: how === 'rehearse',
            inPlace: how === 'inPlace',
            before: before ? Number(before) : null,
            settings: settings || null,
            until: how === 'aside' && readLocal(ends, zone) !== null ? utc(readLocal(ends, zone)!) : null,
          },
        }),
      );
      return answer.id;
    },
  });
  if (view.error) return <Failure error={view.error} again={() => void view.refetch()} />;
  if (!d) return <Box sx={{ p: 3, color: 'text.secondary' }}>Opening…</Box>;
  return (
    <Worksheet side={340}>
      <Box sx={{ p: 2, minWidth: 0 }}>
        <Box sx={{ display: 'flex', alignItems: 'center', gap: 2, mb: 1 }}>
          <h1 style={{ fontSize: 20, margin: 0 }}>Recover</h1>
          <DatabaseField id={id} onPick={(x) => go(`/recover/${x}`)} />
          <RangeButtons days={days} onShow={show} />
        </Box>
        {cover.data && <CoverStrip cover={cover.data} zone={zone} chosen={target} onChoose={choose} onZoom={zoom} />}
        <Box sx={{ display: 'flex', gap: 1.5, my: 1.5, alignItems: 'flex-start', flexWrap: 'wrap' }}>
          <TargetField key={target} target={target} zone={zone} onTarget={choose} />
          <TextField
            select
            label="Just before"
            value=""
            onChange={(e) => choose(Number(e.target.value) - 1)}
            sx={{ minWidth: 250 }}
            disabled={d.marks.length === 0}
            helperText={d.marks.length === 0 ? undefined : 'one millisecond before it'}
          >
            {d.marks.map((m, i) => (
              <MenuItem key={i} value={Date.parse(m.at)}>
                {m.title} · {m.kind}, {localTime(m.at, zone)}
              </MenuItem>
            ))}
          </TextField>
          <TextField
            select
            label="To a new instance on"
            value={host ?? ''}
            onChange={(e) => put({ host: e.target.value || null })}
            sx={{ minWidth: 190 }}
            slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
          >
            <MenuItem value="">first that qualifies</MenuItem>
            {w?.hosts.map((h) => (
              <MenuItem key={h.id} value={h.id} disabled={h.whyNot !== null}>
                {h.id}
                {h.whyNot && ` — ${h.whyNot}`}
              </MenuItem>
            ))}
          </TextField>
        </Box>
        {w?.stopsAtPositions && (
          <CommitList
            database={id}
            target={target}
            zone={zone}
            chosen={before ? { before: Number(before), said: params.get('commit') ?? '' } : null}
            onChoose={(c) =>
              put(
                c
                  ? { target: c.target, before: String(c.before), commit: c.name ?? `transaction ${c.transaction}` }
                  : { before: null, commit: null },
              )
            }
          />
        )}
        {(base || without) && (
          <Box sx={{ display: 'flex', alignItems: 'center', gap: 1, mb: 1, fontSize: 12.5 }} data-testid="way">
            <span>
              Only ways{' '}
              {base && (
                <>
                  by way of <code>{base}</code>
                </>
              )}
              {base && without && ', and '}
              {without && (
                <>
                  that read nothing from <code>{without}</code>
                </>
              )}
              .
            </span>
            <Button onClick={() => take({ host: host ?? null, base: null, without: null })}>Any way</Button>
          </Box>
        )}
        {ways.error && <Failure error={ways.error} />}
        {w && !w.nearest.recoverable && (
          <Alert severity="warning" variant="outlined" icon={false} sx={{ mb: 1.5 }}>
            <b>This instant cannot be restored.</b> <Said text={w.nearest.reasons.slice(0, 2).join('; ')} zone={zone} />
            .
            <Box sx={{ display: 'flex', gap: 1, mt: 0.5, flexWrap: 'wrap' }}>
              {w.nearest.before && (
                <Button variant="outlined" color="inherit" onClick={() => choose(Date.parse(w.nearest.before!))}>
                  Nearest before: {localTime(w.nearest.before, zone)}
                </Button>
              )}
              {w.nearest.after && (
                <Button variant="outlined" color="inherit" onClick={() => choose(Date.parse(w.nearest.after!))}>
                  Nearest after: {localTime(w.nearest.after, zone)}
                </Button>
              )}
            </Box>
          </Alert>
        )}
        {w?.reason && (
          <Alert severity="error" variant="outlined" icon={false}>
            <b>There is no way back under this premise.</b> {w.reason}.
          </Alert>
        )}
        {w && <WaysTable ways={w} zone={zone} />}
        {w?.best && <h2 style={{ fontSize: 14, margin: '16px 0 6px' }}>By sets, aside: from where, and how else</h2>}
        {w?.best && (
          <Box
            component="section"
            aria-label="By sets"
            sx={{ display: 'grid', gridTemplateColumns: 'repeat(auto-fit, minmax(178px, 1fr))', gap: 1.5 }}
          >
            {[w.best, ...w.alternatives].map((p, i) => (
              <PathCard
                key={i}
                path={p}
                best={i === 0}
                zone={zone}
                rto={w.rtoSeconds}
                longest={Math.max(...[w.best!, ...w.alternatives].map((x) => x.serviceSeconds))}
                word={base || without ? 'Chosen' : 'Best by sets'}
                onTake={() => take(p.choice)}
              />
            ))}
          </Box>
        )}
      </Box>
      <Consequence
        ways={w}
        zone={zone}
        instance={instance}
        onInstance={setInstance}
        query={query}
        checks={checks}
        onChecks={setChecks}
        onQuery={setQuery}
        ends={ends}
        onEnds={setEnds}
        settings={settings}
        onSettings={setSettings}
        may={mayOperate}
        busy={start.isPending || ways.isPlaceholderData}
        error={start.error}
        onStart={(how) => start.mutate(how, { onSuccess: (run) => go(`/runs/${run}`) })}
      />
    </Worksheet>
  );
}

function TargetField({
  target,
  zone,
  onTarget,
}: {
  target: number | null;
  zone: string;
  onTarget: (at: number) => void;
}) {
  const [text, setText] = useState(() => (target === null ? '' : writeLocal(target, zone)));
  const ms = readLocal(text, zone);
  return (
    <TextField
      label={`Instant, local time (${zone})`}
      value={text}
      onChange={(e) => setText(e.target.value)}
      onBlur={() => ms !== null && ms !== target && onTarget(ms)}
      onKeyDown={(e) => e.key === 'Enter' && ms !== null && onTarget(ms)}
      error={ms === null}
      helperText={ms === null ? 'Write it as 2026-11-23 07:40' : utc(ms)}
      sx={{ width: 235 }}
    />
  );
}
