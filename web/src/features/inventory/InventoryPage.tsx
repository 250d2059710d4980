import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useLocation } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useZone } from '../../app/places';
import { withPremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { Failure } from '../../shared/Failure';
import { bytes, localTime } from '../../shared/format';

type HostInventory = Schemas['HostInventoryView'];
type Change = Schemas['InventoryChangeView'];

/** Hosts, asked for their databases: what is new, gone, larger or set otherwise than the fleet has it, and what could not be seen. */
export default function InventoryPage() {
  const { search } = useLocation();
  const zone = useZone();
  const may = useMay('operate');
  const queries = useQueryClient();
  const hosts = useQuery({
    queryKey: ['inventory'],
    queryFn: () => got(api.GET('/api/inventory')),
    // Whoever waits for an answer sees it when it comes.
    refetchInterval: (query) => (query.state.data?.some((h) => h.waits) ? 1000 : false),
  });
  const ask = useMutation({
    mutationFn: (some: string[]) =>
      Promise.all(some.map((host) => got(api.POST('/api/inventory/{host}/ask', { params: { path: { host } } })))),
    onSettled: () => queries.invalidateQueries({ queryKey: ['inventory'] }),
  });
  if (hosts.error) return <Failure error={hosts.error} again={() => void hosts.refetch()} />;
  const all = (hosts.data ?? []).toSorted((a, b) => said(b) - said(a));
  const total = all.reduce((sum, h) => sum + h.changes.length, 0);
  return (
    <Box sx={{ p: 2, maxWidth: 1180 }}>
      <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', flexWrap: 'wrap', mb: 0.5 }}>
        <h1 style={{ fontSize: 20, margin: 0 }}>What hosts say they run</h1>
        <Link to={withPremise('/setup/fleet/hosts', search)}>hosts of the fleet</Link>
        {may && (
          <Button
            variant="outlined"
            sx={{ ml: 'auto' }}
            disabled={ask.isPending || all.length === 0}
            onClick={() => ask.mutate(all.map((h) => h.host))}
          >
            Ask all {all.length} hosts
          </Button>
        )}
      </Box>
      <Box sx={{ color: 'text.secondary', mb: 1.5 }}>
        {hosts.data && summary(all, total)} Once asked, a host is asked again every day; nothing on it is changed.
      </Box>
      {ask.error && <Failure error={ask.error} />}
      {all.map((h) => (
        <HostRow key={h.host} host={h} zone={zone} search={search} ask={may ? () => ask.mutate([h.host]) : null} />
      ))}
    </Box>
  );
}

/** What has something to say comes first; what was never asked, last. */
const said = (h: HostInventory) => (h.changes.length > 0 ? 3 : h.unseen.length > 0 ? 2 : h.at !== null ? 1 : 0);

function summary(hosts: HostInventory[], total: number) {
  const asked = hosts.filter((h) => h.at !== null).length;
  const partial = hosts.filter((h) => h.unseen.length > 0).length;
  if (asked === 0) return 'No host was asked yet.';
  return (
    `${asked} of ${hosts.length} hosts answered: ${total === 0 ? 'all as the fleet has it' : `${total} ${total === 1 ? 'thing is' : 'things are'} otherwise than the fleet has it`}` +
    (partial > 0 ? `; ${partial} ${partial === 1 ? 'answer is' : 'answers are'} partial.` : '.')
  );
}

function HostRow({
  host: h,
  zone,
  search,
  ask,
}: {
  host: HostInventory;
  zone: string;
  search: string;
  ask: (() => void) | null;
}) {
  return (
    <Box
      component="section"
      aria-label={h.host}
      sx={{
        display: 'grid',
        gridTemplateColumns: { xs: '1fr', md: '210px minmax(0, 1fr) 76px' },
        gap: 2,
        py: 1,
        borderTop: 1,
        borderColor: 'line',
      }}
    >
      <Box>
        <Box component="h2" sx={{ m: 0, fontSize: 14 }}>
          {h.host}
        </Box>
        <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
          {h.site} · the fleet has {h.known} on it
          <br />
          {h.waits
            ? 'being asked…'
            : h.at === null
              ? 'never asked'
              : `said ${h.seen}, ${localTime(h.at, zone, false)}${h.unseen.length > 0 ? ', partial' : ''}`}
        </Box>
      </Box>
      <Box>
        {h.at !== null && h.changes.length === 0 && (
          <Box sx={{ color: 'text.secondary' }}>
            {h.unseen.length > 0 ? 'Nothing of what was seen is other.' : 'As the fleet has it.'}
          </Box>
        )}
        {h.changes.map((c) => (
          <ChangeLine key={`${c.what} ${c.name}`} change={c} host={h} search={search} />
        ))}
        {h.unseen.map((u) => (
          <Box key={u} sx={{ color: 'text.secondary', display: 'flex', gap: 1 }}>
            <Box component="span" sx={{ width: 74, flex: 'none', fontStyle: 'italic' }}>
              unseen
            </Box>
            <span>{u}</span>
          </Box>
        ))}
      </Box>
      <Box>
        {ask && (
          <Button size="small" disabled={h.waits} onClick={ask} aria-label={`Ask ${h.host}`}>
            Ask
          </Button>
        )}
      </Box>
    </Box>
  );
}

const words: Record<Change['what'], string> = {
  new: 'new',
  gone: 'gone',
  notSeen: 'not seen',
  larger: 'larger',
  logMode: 'log mode',
  version: 'version',
};

const grave: Change['what'][] = ['gone', 'logMode'];

function ChangeLine({ change: c, host: h, search }: { change: Change; host: HostInventory; search: string }) {
  const stranger = c.what === 'new' && c.database === null;
  return (
    <Box sx={{ display: 'flex', gap: 1 }}>
      <Box
        component="span"
        sx={{
          width: 74,
          flex: 'none',
          fontWeight: 650,
          color: grave.includes(c.what)
            ? 'verdict.breached'
            : c.what === 'notSeen'
              ? 'text.secondary'
              : 'verdict.atRisk',
        }}
      >
        {words[c.what]}
      </Box>
      <Box sx={{ minWidth: 0 }}>
        {c.database === null ? (
          <b>{c.name}</b>
        ) : (
          <Link to={withPremise(`/databases/${encodeURIComponent(c.database)}`, search)}>{c.name}</Link>
        )}
        {stranger &&
          ` (${[c.engine, c.version && `version ${c.version}`, c.sizeBytes !== null && bytes(c.sizeBytes)].filter(Boolean).join(', ')})`}
        : {c.said}
        {c.sinceBefore && c.what !== 'new' && h.beforeAt !== null ? ', since the asking before' : ''}
        {stranger && (
          <>
            {' '}
            <Link
              to={withPremise('/setup/fleet/databases/new', search)}
              state={{
                part: {
                  id: c.name.toLowerCase().replace(/[^a-z0-9.-]+/g, '-'),
                  name: c.name,
                  engine: c.engine,
                  host: h.host,
                  ...(c.version !== null && { version: c.version }),
                  ...(c.sizeBytes !== null && { sizeBytes: c.sizeBytes }),
                },
              }}
            >
              Add it to the fleet
            </Link>
          </>
        )}
      </Box>
    </Box>
  );
}
