import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useInfiniteQuery } from '@tanstack/react-query';
import { Link, useLocation } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useZone } from '../../app/places';
import { withPremise } from '../../app/premise';
import { count, duration, localTime } from '../../shared/format';
import { Said } from '../../shared/Said';

const atOnce = 30;
const urgencies = ['now', 'soon', 'later'] as const;
const words: Record<Schemas['Urgency'], string> = { now: 'Now', soon: 'This week', later: 'When there is time' };

/** Findings by urgency, those of one cause and remedy as one, each with its reason and the one action that mends it. */
export function NeedsYou() {
  const pages = useInfiniteQuery({
    queryKey: ['findings'],
    initialPageParam: 0,
    queryFn: ({ pageParam }) => got(api.GET('/api/findings', { params: { query: { from: pageParam, take: atOnce } } })),
    getNextPageParam: (last) => last.next ?? undefined,
  });
  const first = pages.data?.pages[0];
  const rows = pages.data?.pages.flatMap((p) => p.rows) ?? [];
  const total = (first?.total ?? 0) + (first?.leftOut.length ?? 0);
  return (
    <Box
      component="aside"
      aria-label="Needs you"
      tabIndex={0}
      sx={{ borderLeft: 1, borderColor: 'divider', bgcolor: 'background.paper', overflow: 'auto', px: 2, py: 1.25 }}
    >
      <h2 style={{ margin: '2px 0 8px', fontSize: 15 }}>Needs you{total > 0 && ` · ${count(total)}`}</h2>
      {pages.isSuccess && total === 0 && (
        <Box sx={{ color: 'text.secondary' }}>
          Nothing. Every database has copies apart from it, whole chains and a proof that counts.
        </Box>
      )}
      {first && first.leftOut.length > 0 && <LeftOut all={first.leftOut} />}
      {urgencies.map((u, i) => {
        const these = rows.filter((r) => r.urgency === u);
        if (these.length === 0) return null;
        return (
          <Box key={u} component="section" sx={{ mb: 2 }}>
            <Box
              component="h3"
              sx={{ m: 0, mb: 0.5, fontSize: 12, color: u === 'now' ? 'verdict.breached' : 'text.secondary' }}
            >
              {words[u]} · {count(first!.byUrgency[i]!)}
            </Box>
            {these.map((f) => (
              <Finding key={f.key} finding={f} />
            ))}
          </Box>
        );
      })}
      {pages.hasNextPage && (
        <Button onClick={() => void pages.fetchNextPage()} disabled={pages.isFetchingNextPage}>
          Show {count(Math.min(atOnce, first!.total - rows.length))} of {count(first!.total - rows.length)} more
        </Button>
      )}
    </Box>
  );
}

function Finding({ finding: f }: { finding: Schemas['FindingRow'] }) {
  const { search } = useLocation();
  const zone = useZone();
  const several = f.databases > 1;
  const whose = several
    ? withPremise('/fleet', search, { finding: f.key })
    : withPremise(`/databases/${f.database}`, search);
  return (
    <Box sx={{ py: 0.75, borderTop: 1, borderColor: 'divider' }}>
      <Box component={Link} to={whose} sx={{ fontWeight: 650, textDecoration: 'none' }}>
        {several ? `${count(f.databases)} databases` : f.databaseName}
      </Box>
      {several && (
        <Box component="span" sx={{ color: 'text.secondary' }}>
          {' '}
          such as {f.databaseName}
        </Box>
      )}
      <Box>
        <Said text={f.what} zone={zone} />
      </Box>
      {several && f.worstSeconds !== null && (
        <Box sx={{ fontSize: 12 }}>
          that is the worst, {duration(f.worstSeconds)}
          {f.from && f.to && f.from !== f.to && (
            <>
              ; from {localTime(f.from, zone, false)} to {localTime(f.to, zone, false)}
            </>
          )}
        </Box>
      )}
      <Box sx={{ color: 'text.secondary', fontSize: 12, overflowWrap: 'anywhere' }}>
        <Said text={f.why} zone={zone} />
      </Box>
      <Box
        component={Link}
        to={several ? whose : remedyPath(f, search)}
        sx={{ fontSize: 12.5, color: 'primary.main', fontWeight: 600 }}
      >
        {f.remedy}
      </Box>
    </Box>
  );
}

/** What is kept and could not be read: it takes part in nothing until it is mended. */
function LeftOut({ all }: { all: Schemas['LeftOutView'][] }) {
  const { search } = useLocation();
  return (
    <Box component="section" aria-label="Left out" sx={{ mb: 2 }}>
      <Box component="h3" sx={{ m: 0, mb: 0.5, fontSize: 12, color: 'verdict.breached' }}>
        Cannot be read · {count(all.length)}
      </Box>
      {all.map((l) => (
        <Box key={`${l.kind} ${l.id}`} sx={{ py: 0.75, borderTop: 1, borderColor: 'divider' }}>
          <b>
            {l.kind} {l.id}
          </b>
          <Box sx={{ color: 'text.secondary', fontSize: 12, overflowWrap: 'anywhere' }}>
            It is left out of every figure and does not run: {l.why}
          </Box>
          {l.kind === 'plan' ? (
            <Box
              component={Link}
              to={withPremise(`/plans/${l.id}`, search)}
              sx={{ fontSize: 12.5, color: 'primary.main', fontWeight: 600 }}
            >
              Mend it and save it anew
            </Box>
          ) : (
            <Box
              component="a"
              href="/api/export/fleet?kept=true"
              download
              sx={{ fontSize: 12.5, color: 'primary.main', fontWeight: 600 }}
            >
              Export the fleet as it is kept, mend it, and import it in Setup
            </Box>
          )}
        </Box>
      ))}
    </Box>
  );
}

function remedyPath(f: Schemas['FindingRow'], search: string): string {
  if (f.code === 'never-restored' || f.code === 'proof-due') return withPremise(`/recover/${f.database}`, search);
  if (/^(keeps-failing|run-stands-out|does-not-end)$/.test(f.code))
    return withPremise('/runs', search, { database: f.database });
  return withPremise(/^(no-plan|no-sets)$/.test(f.code) ? '/plans' : `/databases/${f.database}`, search);
}
