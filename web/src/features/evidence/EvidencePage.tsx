import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { Link, useLocation } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useAddress } from '../../app/address';
import { useZone } from '../../app/places';
import { withPremise } from '../../app/premise';
import { Failure } from '../../shared/Failure';
import { count, duration, localTime, utc } from '../../shared/format';
import { lossWord } from '../../shared/words';

interface Body {
  run?: string;
  outcome?: string;
  why?: string;
  list?: string;
  id?: string;
  what?: string;
  title?: string;
  name?: string;
  roles?: string[];
  target?: string;
  host?: string;
  databases?: number;
  sets?: number;
  planned?: { serviceSeconds?: number; seconds?: number };
  /** Of a restore what it came to; of runs of other kinds what each step measured. */
  measured?:
    | {
        dataLostSeconds: number;
        secondsToReady: number;
        serviceSecondsWithoutHold: number;
        holdSeconds?: number | null;
        checks: { passed: boolean }[];
      }
    | unknown[]
    | null;
  checks?: { passed: boolean }[];
  /** Of a drill: each change of roles. */
  result?: { measured?: { changes?: { lostSeconds?: number; serviceSeconds?: number }[] } } | null;
}

/** The ledger: every run, incident and import, each chained by hash to the one before. */
export default function EvidencePage() {
  const zone = useZone();
  const { search } = useLocation();
  const [params, put] = useAddress();
  const database = params.get('database') ?? undefined;
  const pages = useInfiniteQuery({
    queryKey: ['ledger', database],
    initialPageParam: undefined as number | undefined,
    queryFn: ({ pageParam }) =>
      got(api.GET('/api/ledger', { params: { query: { before: pageParam, take: 40, database } } })),
    getNextPageParam: (last) => last.next ?? undefined,
  });
  const state = useQuery({ queryKey: ['ledger', 'verify'], queryFn: () => got(api.GET('/api/ledger/verify')) });
  if (pages.error) return <Failure error={pages.error} again={() => void pages.refetch()} />;
  const entries = pages.data?.pages.flatMap((p) => p.entries) ?? [];
  return (
    <Box sx={{ p: 2, maxWidth: 1180 }}>
      <Box sx={{ display: 'flex', alignItems: 'baseline', gap: 2 }}>
        <h1 style={{ fontSize: 20, margin: 0 }}>Evidence ledger</h1>
        {state.data && (
          <Box
            data-testid="ledger-state"
            sx={{ fontWeight: 600, color: state.data.holds ? 'primary.main' : 'error.main' }}
          >
            {state.data.holds ? `All ${count(state.data.entries)} entries hold` : `Broken: ${state.data.whatIsWrong}`}
          </Box>
        )}
        <Box sx={{ flex: 1 }} />
        {database && <Button onClick={() => put({ database: null })}>Only {database}; show all</Button>}
        <Button href="/api/ledger/key" download>
          Public key
        </Button>
        <Button href="/api/ledger/export" download>
          Export
        </Button>
      </Box>
      <Box component="p" sx={{ color: 'text.secondary', mt: 0.5 }}>
        Each entry carries the hash of the one before, and an export ends with where the ledger stands, signed
        {state.data && (
          <>
            {' by key '}
            <code title={state.data.key}>{state.data.key.slice(0, 16)}</code>
          </>
        )}
        . Check it anywhere with <code>./imbrek verify-ledger FILE --key KEY.pem</code>, and with{' '}
        <code>--head HASH</code> against a hash you noted before: then neither an end cut off nor a ledger written anew
        goes unseen.
      </Box>
      {!database && <ByKind search={search} />}
      {entries.length === 0 && pages.isSuccess && (
        <Box>No entry yet. Restores, incidents and imports are written here as they end.</Box>
      )}
      <Box component="ol" sx={{ listStyle: 'none', p: 0, m: 0 }}>
        {entries.map((e) => (
          <Entry key={e.number} entry={e} zone={zone} search={search} />
        ))}
      </Box>
      {pages.hasNextPage && <Button onClick={() => void pages.fetchNextPage()}>Show older entries</Button>}
    </Box>
  );
}

/** By what each kind of loss that was agreed is proven: how many databases by sets, by a replica that took over, and how many are not. */
function ByKind({ search }: { search: string }) {
  const kinds = useQuery({ queryKey: ['ledger', 'kinds'], queryFn: () => got(api.GET('/api/proofs/kinds')) });
  if (!kinds.data?.length) return null;
  const most = Math.max(...kinds.data.map((k) => k.byRestore + k.byTakingOver + k.failed + k.never));
  const parts = [
    ['byRestore', 'restored from sets', 'primary.main'],
    ['byTakingOver', 'a replica took over', 'primary.light'],
    ['failed', 'did not pass, or counts no more', 'verdict.breached'],
    ['never', 'never tried', 'divider'],
  ] as const;
  return (
    <Box component="section" aria-label="What proves it" data-testid="proof-kinds" sx={{ my: 1.5, maxWidth: 860 }}>
      <Box sx={{ display: 'flex', gap: 2, flexWrap: 'wrap', alignItems: 'baseline' }}>
        <h2 style={{ fontSize: 15, margin: 0 }}>What proves it, by database</h2>
        {parts.map(([key, word, colour]) => (
          <Box key={key} component="span" sx={{ fontSize: 12, color: 'text.secondary', whiteSpace: 'nowrap' }}>
            <Box component="span" sx={{ display: 'inline-block', width: 10, height: 10, bgcolor: colour, mr: 0.75 }} />
            {word}
          </Box>
        ))}
      </Box>
      {kinds.data.map((k) => (
        <Box
          key={k.loss}
          sx={{
            display: 'grid',
            gridTemplateColumns: { xs: '96px minmax(0, 1fr)', sm: '130px minmax(0, 1fr) 300px' },
            gap: 1.5,
            alignItems: 'center',
            py: 0.25,
          }}
        >
          <span>{lossWord[k.loss]}</span>
          <Box sx={{ display: 'flex', height: 12 }} aria-hidden>
            {parts.map(([key, , colour]) => (
              <Box key={key} sx={{ width: `${(100 * k[key]) / most}%`, bgcolor: colour }} />
            ))}
          </Box>
          <Box sx={{ fontSize: 12, gridColumn: { xs: '1 / -1', sm: 'auto' } }}>
            {k.byRestore} by restore, {k.byTakingOver} by taking over
            {k.failed + k.never > 0 && (
              <>
                {', '}
                <Link to={withPremise('/drills', search)}>{k.failed + k.never} not now</Link>
              </>
            )}
          </Box>
        </Box>
      ))}
    </Box>
  );
}

function Entry({ entry: e, zone, search }: { entry: Schemas['EntryView']; zone: string; search: string }) {
  const b = e.body as unknown as Body;
  const m = Array.isArray(b.measured) ? null : b.measured;
  const checks = m?.checks ?? b.checks ?? [];
  const passed = checks.filter((c) => c.passed).length;
  const changes = b.result?.measured?.changes ?? [];
  return (
    <Box
      component="li"
      sx={{
        display: 'grid',
        gridTemplateColumns: '52px 190px minmax(0, 1fr) 130px',
        gap: 1.5,
        py: 0.9,
        borderTop: 1,
        borderColor: 'divider',
      }}
    >
      <code>{e.number}</code>
      <Box title={utc(e.at)}>
        {localTime(e.at, zone)}
        <Box sx={{ color: 'text.secondary' }}>{e.who}</Box>
      </Box>
      <Box sx={{ minWidth: 0 }}>
        <b>{e.kind.replaceAll('-', ' ')}</b>
        {b.outcome && `, ${b.outcome}`}{' '}
        {e.database && <Link to={withPremise(`/databases/${e.database}`, search)}>{e.database}</Link>}{' '}
        {b.title && `“${b.title}”`}
        {e.kind === 'fleet' && `${b.list} ${b.id} ${b.what}`}
        {e.kind === 'import' && `${count(b.databases ?? 0)} databases, ${count(b.sets ?? 0)} sets`}
        {b.name && <b>{b.name}</b>} {b.roles?.join(', ')}
        {b.run && (
          <>
            {' · '}
            <Link to={withPremise(`/runs/${b.run}`, search)}>run</Link>
          </>
        )}
        {b.why && <Box sx={{ color: 'text.secondary' }}>{b.why}</Box>}
        {m && (
          <Box sx={{ color: 'text.secondary' }}>
            lost {duration(m.dataLostSeconds)} · ready in {duration(m.secondsToReady)}
            {b.planned?.seconds !== undefined && ` (planned ${duration(b.planned.seconds)})`} · back in{' '}
            {duration(m.serviceSecondsWithoutHold)}
            {m.holdSeconds !== null && m.holdSeconds !== undefined && ` · held ${duration(m.holdSeconds)}`} · {passed}{' '}
            of {checks.length} checks passed
          </Box>
        )}
        {!m && (changes.length > 0 || checks.length > 0) && (
          <Box sx={{ color: 'text.secondary' }}>
            {[
              ...changes.map(
                (c) => `lost ${duration(c.lostSeconds ?? 0)}, clients back in ${duration(c.serviceSeconds ?? null)}`,
              ),
              ...(checks.length > 0 ? [`${passed} of ${checks.length} checks passed`] : []),
            ].join(' · ')}
          </Box>
        )}
      </Box>
      <code title={e.hash} style={{ textAlign: 'right' }}>
        {e.hash.slice(0, 12)}
      </code>
    </Box>
  );
}
