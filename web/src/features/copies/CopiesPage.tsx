import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useLocation } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useAddress } from '../../app/address';
import { useZone } from '../../app/places';
import { useGo, withPremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { Failure } from '../../shared/Failure';
import { bytes, duration, localTime, readLocal, utc, writeLocal } from '../../shared/format';
import { LocalTimeField } from '../../shared/LocalTimeField';
import { AskCopy } from './AskCopy';
import { copyWord, shareLeft } from './words';

/** Everything that was made of databases and still stands: of whom, for whom, until when. */
export default function CopiesPage() {
  const { search } = useLocation();
  const zone = useZone();
  const [params, put] = useAddress();
  const asked = params.get('ask');
  const list = useQuery({
    queryKey: ['runs', 'copies'],
    refetchInterval: 10_000,
    queryFn: () => got(api.GET('/api/copies')),
  });
  if (list.error) return <Failure error={list.error} again={() => void list.refetch()} />;
  const all = list.data?.copies ?? [];
  const standing = all.filter((c) => c.since !== null);
  const past = all.filter((c) => c.pastEnd).length;
  const endless = standing.filter((c) => c.until === null && c.state !== 'held').length;
  const ask = (run: string | null) => put({ ask: run });
  return (
    <Box sx={{ p: 2 }}>
      <Box sx={{ display: 'flex', alignItems: 'baseline', gap: 2, flexWrap: 'wrap', mb: 1.5 }}>
        <h1 style={{ fontSize: 20, margin: 0 }}>Copies in use</h1>
        {list.isSuccess && (
          <Box sx={{ color: 'text.secondary' }}>
            {all.length === 0 ? 'nothing' : `${standing.length} of ${all.length} stand`}, taking{' '}
            <b>{bytes(all.reduce((sum, c) => sum + c.bytes, 0))}</b>
            {past > 0 && (
              <Box component="b" sx={{ color: 'verdict.breached' }}>
                {' '}
                · {past} past {past === 1 ? 'its' : 'their'} end
              </Box>
            )}
            {endless > 0 && ` · ${endless} without an end`}
          </Box>
        )}
        <Box sx={{ ml: 'auto', display: 'flex', gap: 1 }}>
          <Button component={Link} to={withPremise('/copies/new', search, { as: 'view' })} variant="outlined">
            Look at a database
          </Button>
          <Button component={Link} to={withPremise('/copies/new', search, { as: 'clone' })} variant="outlined">
            Make clones
          </Button>
          <Button component={Link} to={withPremise('/copies/new', search, { as: 'open-for-log' })} variant="outlined">
            Leave one open for log
          </Button>
        </Box>
      </Box>
      {list.isSuccess && all.length === 0 && (
        <Box sx={{ color: 'text.secondary', maxWidth: 560 }}>
          Nothing temporary stands. What is restored beside a database, opened to be looked at, or cloned for tests is
          listed here until it is removed: with its owner, its room and the day it ends.
        </Box>
      )}
      {all.length > 0 && (
        <Box role="table" aria-label="Copies">
          {all.map((c) => (
            <CopyRow
              key={c.run}
              copy={c}
              zone={zone}
              now={list.data!.now}
              open={asked === c.run}
              onAsk={() => ask(asked === c.run ? null : c.run)}
            />
          ))}
        </Box>
      )}
    </Box>
  );
}

const columns = {
  xs: 'minmax(0, 1fr)',
  md: 'minmax(150px, 1.1fr) minmax(130px, 1fr) minmax(150px, 1.1fr) minmax(150px, 1fr) 240px',
};

function CopyRow({
  copy: c,
  zone,
  now,
  open,
  onAsk,
}: {
  copy: Schemas['StandingCopyView'];
  zone: string;
  now: string;
  open: boolean;
  onAsk: () => void;
}) {
  const { search } = useLocation();
  const go = useGo();
  const may = useMay('operate');
  const [moving, setMoving] = useState(false);
  const [applying, setApplying] = useState(false);
  const remove = useMutation({
    mutationFn: () => got(api.POST('/api/runs/{id}/remove', { params: { path: { id: c.run } } })),
    onSuccess: (run) => go(`/runs/${run.id}`),
  });
  const refresh = useMutation({
    mutationFn: () => got(api.POST('/api/copies/{id}/refresh', { params: { path: { id: c.run } } })),
    onSuccess: (made) => go(`/runs/${made.ids[0]}`),
  });
  const left = c.until === null ? null : shareLeft(c.since, c.until, now);
  const stands = c.state === 'done' || c.state === 'failed' || c.state === 'cancelled';
  return (
    <Box sx={{ borderTop: 1, borderColor: 'divider', py: 1 }} data-testid="copy">
      <Box role="row" sx={{ display: 'grid', gridTemplateColumns: columns, columnGap: 2, rowGap: 0.5 }}>
        <Box
          role="cell"
          sx={{
            minWidth: 0,
            overflowWrap: 'anywhere',
            // A link has room about it; its words stand on the line of the other cells.
            mt: '-2px',
            '& a': { display: 'inline-block', minWidth: 24, minHeight: 24, py: '2px' },
          }}
        >
          <Link to={withPremise(`/databases/${c.database}`, search)}>{c.databaseName}</Link>
          <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
            <Link to={withPremise(`/runs/${c.run}`, search)}>{copyWord[c.kind] ?? c.kind}</Link>
            {c.mounted && ', on its sets where they lie'}
            {c.kind === 'open-for-log' && c.rounds?.opened && !c.rounds.underWay && ', opened since'}
            {c.kind === 'clone' && c.rounds?.everySeconds && `, refreshed every ${duration(c.rounds.everySeconds)}`}
          </Box>
        </Box>
        <Box role="cell" sx={{ minWidth: 0, overflowWrap: 'anywhere' }}>
          {c.instance} <Box component="span">on {c.host}</Box>
          <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
            {c.mounted ? 'no room of its own' : bytes(c.bytes)}
            {c.owner && `, made for ${c.owner}`}
          </Box>
        </Box>
        <Box role="cell">
          {c.hosts === null
            ? c.state === 'held'
              ? 'nobody but who looks'
              : 'clients'
            : c.rounds?.empty
              ? 'nobody: it could not be refreshed'
              : c.kind === 'open-for-log'
                ? `nobody; log ${c.rounds?.everySeconds ? `every ${duration(c.rounds.everySeconds)}` : 'by hand'}`
                : c.hosts.length === 0
                  ? 'who looks through here'
                  : `${c.hosts.join(', ')} alone`}
          {c.answers && <Box sx={{ fontSize: 12 }}>at {c.answers}</Box>}
          <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
            {c.reached ? `as of ${localTime(c.reached, zone)}` : 'being made'}
          </Box>
        </Box>
        <Box role="cell">
          {c.until === null ? (
            <Box sx={{ color: 'text.secondary' }}>{c.state === 'held' ? 'until people decide' : 'no end'}</Box>
          ) : (
            <>
              <Box sx={{ color: c.pastEnd ? 'verdict.breached' : undefined, fontWeight: c.pastEnd ? 620 : undefined }}>
                {c.pastEnd
                  ? `past its end by ${duration((Date.parse(now) - Date.parse(c.until)) / 1000)}`
                  : `ends in ${duration((Date.parse(c.until) - Date.parse(now)) / 1000)}`}
              </Box>
              <Box aria-hidden sx={{ height: 4, bgcolor: 'divider', my: 0.25, maxWidth: 160 }}>
                <Box
                  sx={{
                    height: 4,
                    width: `${left! * 100}%`,
                    bgcolor: left! < 0.15 ? 'verdict.atRisk' : 'primary.main',
                  }}
                />
              </Box>
              <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
                {localTime(c.until, zone, false)}, {c.ends ? 'removed then' : 'people remove it'}
              </Box>
            </>
          )}
        </Box>
        <Box role="cell" sx={{ display: 'flex', gap: 0.5, flexWrap: 'wrap', alignItems: 'start' }}>
          {c.asks && may && (
            <Button onClick={onAsk} aria-expanded={open}>
              Ask it
            </Button>
          )}
          {c.kind === 'open-for-log' && c.rounds && !c.rounds.opened && may && stands && (
            <Button onClick={() => setApplying(!applying)} aria-expanded={applying}>
              Log
            </Button>
          )}
          {c.kind === 'clone' && c.rounds && c.rounds.underWay === null && may && stands && (
            <Button disabled={refresh.isPending} onClick={() => refresh.mutate()}>
              Refresh
            </Button>
          )}
          {c.rounds?.underWay && (
            <Link to={withPremise(`/runs/${c.rounds.underWay}`, search)}>
              {c.kind === 'clone' ? 'is being refreshed' : 'takes log'}
            </Link>
          )}
          {c.until !== null && may && stands && <Button onClick={() => setMoving(!moving)}>Another end</Button>}
          {stands && may && c.removing === null && (
            <Button disabled={remove.isPending} onClick={() => remove.mutate()}>
              Remove
            </Button>
          )}
          {c.removing !== null && <Link to={withPremise(`/runs/${c.removing}`, search)}>is being removed</Link>}
          {c.state === 'held' && <Link to={withPremise(`/runs/${c.run}`, search)}>decide</Link>}
        </Box>
      </Box>
      {(remove.error ?? refresh.error) && (
        <Alert severity="error" variant="outlined" sx={{ mt: 1 }}>
          {(remove.error ?? refresh.error)!.message}
        </Alert>
      )}
      {moving && <AnotherEnd copy={c} zone={zone} onDone={() => setMoving(false)} />}
      {applying && <ApplyLog copy={c} zone={zone} />}
      {open && <AskCopy run={c.run} database={c.database} />}
    </Box>
  );
}

/** Further log for what is left open for it: up to an instant, or as far as it goes; and then opened, or not. */
function ApplyLog({ copy, zone }: { copy: Schemas['StandingCopyView']; zone: string }) {
  const go = useGo();
  const [text, setText] = useState('');
  const at = text.trim() === '' ? null : readLocal(text, zone);
  const wrong = text.trim() !== '' && at === null;
  const apply = useMutation({
    mutationFn: (opens: boolean) =>
      got(
        api.POST('/api/copies/{id}/log', {
          params: { path: { id: copy.run } },
          body: { to: at === null ? null : utc(at), opens },
        }),
      ),
    onSuccess: (made) => go(`/runs/${made.ids[0]}`),
  });
  return (
    <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1, alignItems: 'start', mt: 1 }}>
      <LocalTimeField
        label="Log up to"
        zone={zone}
        empty="as far as it goes"
        value={text}
        onChange={setText}
        {...(apply.error && { error: apply.error.message })}
        width={300}
      />
      <Button variant="outlined" disabled={wrong || apply.isPending} onClick={() => apply.mutate(false)}>
        Apply it
      </Button>
      <Button variant="outlined" disabled={wrong || apply.isPending} onClick={() => apply.mutate(true)}>
        Apply it and open
      </Button>
      <Box sx={{ color: 'text.secondary', flex: '1 1 260px' }}>
        Opened, it is checked and held like any restore; no log can be applied to it any more.
      </Box>
    </Box>
  );
}

function AnotherEnd({ copy, zone, onDone }: { copy: Schemas['StandingCopyView']; zone: string; onDone: () => void }) {
  const [text, setText] = useState(() => writeLocal(Date.parse(copy.until!), zone));
  const at = readLocal(text, zone);
  const set = useMutation({
    mutationFn: () =>
      got(api.PUT('/api/copies/{id}/until', { params: { path: { id: copy.run } }, body: { until: utc(at!) } })),
    onSuccess: onDone,
  });
  return (
    <Box sx={{ display: 'flex', gap: 1, alignItems: 'start', mt: 1 }}>
      <LocalTimeField
        label="Ends"
        zone={zone}
        value={text}
        onChange={setText}
        {...(set.error && { error: set.error.message })}
      />
      <Button variant="outlined" disabled={at === null || set.isPending} onClick={() => set.mutate()}>
        Set
      </Button>
    </Box>
  );
}
