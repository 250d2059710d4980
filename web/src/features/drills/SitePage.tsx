import Box from '@mui/material/Box';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Link, useLocation } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useAddress } from '../../app/address';
import { usePlaces } from '../../app/places';
import { withPremise } from '../../app/premise';
import { Failure } from '../../shared/Failure';
import { count, duration } from '../../shared/format';
import { Side } from '../../shared/Side';
import { SideSection } from '../../shared/SideSection';
import { Worksheet } from '../../shared/Worksheet';

type Row = Schemas['SiteReturnRow'];

const orders: Record<Schemas['GoesFirst'], string> = {
  smallerRto: 'the smaller RTO first',
  lessToSpare: 'the less time to spare first',
  sooner: 'the sooner back first',
};

/** A whole site is lost now: the order of its return, who is late, who is late only for the others, and what another order would change. */
export default function SitePage() {
  const [params, put] = useAddress();
  const { search } = useLocation();
  const sites = (usePlaces().data?.things ?? []).filter((t) => t.kind === 'site');
  const site = params.get('site') ?? sites[0]?.id ?? '';
  const order = (params.get('order') ?? 'smallerRto') as Schemas['GoesFirst'];
  const people = params.get('people') ?? '2';
  const back = useQuery({
    queryKey: ['drills', 'site', site, order, people],
    enabled: site !== '',
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () =>
      got(
        api.GET('/api/drills/site', {
          params: { query: { site, order, people: people === 'all' ? undefined : Number(people) } },
        }),
      ),
  });
  if (back.error) return <Failure error={back.error} again={() => void back.refetch()} />;
  const v = back.data;
  const late = v?.returns.filter((r) => r.withinRto === false) ?? [];
  const never = v?.returns.filter((r) => r.by === null) ?? [];
  return (
    <Worksheet side={320}>
      <Box sx={{ p: 2, minWidth: 0 }}>
        <h1 style={{ fontSize: 20, margin: 0 }}>If a site is lost now</h1>
        <Box sx={{ display: 'flex', gap: 1.5, my: 1.5, flexWrap: 'wrap' }}>
          <TextField
            select
            label="Site"
            value={site}
            onChange={(e) => put({ site: e.target.value }, true)}
            sx={{ width: 180 }}
          >
            {sites.map((s) => (
              <MenuItem key={s.id} value={s.id}>
                {s.name}
              </MenuItem>
            ))}
          </TextField>
          <TextField
            select
            label="Order"
            value={order}
            onChange={(e) => put({ order: e.target.value }, true)}
            sx={{ width: 240 }}
          >
            {Object.entries(orders).map(([k, w]) => (
              <MenuItem key={k} value={k}>
                {w}
              </MenuItem>
            ))}
          </TextField>
          <TextField
            select
            label="People who check"
            value={people}
            onChange={(e) => put({ people: e.target.value }, true)}
            sx={{ width: 150 }}
          >
            {['1', '2', '3', '5', '10', 'all'].map((n) => (
              <MenuItem key={n} value={n}>
                {n === 'all' ? 'as many as needed' : n}
              </MenuItem>
            ))}
          </TextField>
        </Box>
        {v && v.returns.length > 0 && (
          <Box sx={{ mb: 1.5 }}>
            <Link to={withPremise('/drills/joint', search, { of: 'site', id: site })}>Hold it as a drill</Link>
          </Box>
        )}
        {v && v.returns.length === 0 && <Box sx={{ color: 'text.secondary' }}>No database lies on this site.</Box>}
        {v && v.returns.length > 0 && <Returns rows={v.returns} seconds={v.seconds} search={search} />}
      </Box>
      <Side label="What comes of it">
        {v && (
          <>
            <Box sx={{ fontSize: 17, fontWeight: 620, mb: 0.5 }}>
              {never.length < v.returns.length
                ? `All that can come back are back in ${duration(v.seconds)}`
                : 'Nothing comes back'}
            </Box>
            <Box sx={{ mb: 2, color: late.length > 0 ? 'verdict.breached' : 'text.secondary' }}>
              {count(late.length)} of {count(v.returns.length)} miss their RTO
              {late.some((r) => r.lateForTheOthers) &&
                `, ${count(late.filter((r) => r.lateForTheOthers).length)} only because the others come back too`}
              {never.length > 0 && `; ${count(never.length)} cannot come back at all`}.
            </Box>
            <SideSection title="What another order would change">
              {v.orders.map((o) => (
                <Box key={o.order} sx={{ mb: 1 }}>
                  <b>{orders[o.order]}</b>:{' '}
                  {o.inTime.length + o.late.length === 0
                    ? 'the same are late.'
                    : `${o.inTime.length > 0 ? `in time then: ${o.inTime.join(', ')}. ` : ''}${o.late.length > 0 ? `late then: ${o.late.join(', ')}.` : ''}`}
                </Box>
              ))}
            </SideSection>
            <SideSection title="How it is computed">
              <Box sx={{ color: 'text.secondary' }}>
                Each comes back by its best way under this loss. Restores share stores, links and hosts; a host restores
                as many at once as it has slots, two where none are stated; those who check take one after another.
              </Box>
            </SideSection>
          </>
        )}
      </Side>
    </Worksheet>
  );
}

function Returns({ rows, seconds, search }: { rows: Row[]; seconds: number; search: string }) {
  // Minutes beside a day and a half: a square root of time keeps both to be seen.
  const place = (s: number) => Math.sqrt(Math.max(0, s) / Math.max(seconds, 1)) * 100;
  const x = (s: number) => `${place(s)}%`;
  const span = (from: number, to: number) => `${place(to) - place(from)}%`;
  return (
    <Box
      component="section"
      aria-label="Order of return"
      sx={{
        display: 'grid',
        gridTemplateColumns: 'minmax(120px, 190px) minmax(90px, 150px) minmax(0, 1fr) 130px',
        columnGap: 1.5,
      }}
    >
      {[
        'Database',
        'By',
        `from the loss to ${duration(seconds)}, square-root scale; the line is the RTO`,
        'back in / RTO',
      ].map((h) => (
        <Box key={h} sx={{ fontSize: 12, color: 'text.secondary' }}>
          {h}
        </Box>
      ))}
      {rows.map((r) => (
        <Box key={r.database} sx={{ display: 'contents' }}>
          <Box sx={{ borderTop: 1, borderColor: 'divider', py: 0.4, overflowWrap: 'anywhere' }}>
            <Link to={withPremise(`/databases/${r.database}`, search)}>{r.name}</Link>
          </Box>
          <Box sx={{ borderTop: 1, borderColor: 'divider', py: 0.4, overflowWrap: 'anywhere' }}>
            {r.by === null ? '–' : r.by === 'sets' ? `sets, on ${r.host}` : r.by}
          </Box>
          <Box sx={{ borderTop: 1, borderColor: 'divider', position: 'relative', minHeight: 24 }}>
            {r.by === null ? (
              <Box sx={{ color: 'verdict.breached', py: 0.4 }}>{r.whyNot}</Box>
            ) : (
              <>
                <Box
                  sx={{
                    position: 'absolute',
                    top: 8,
                    height: 8,
                    left: x(r.startsSeconds!),
                    width: `max(2px, ${span(r.startsSeconds!, r.readySeconds!)})`,
                    bgcolor: 'primary.main',
                  }}
                />
                <Box
                  sx={{
                    position: 'absolute',
                    top: 11,
                    height: 2,
                    left: x(r.readySeconds!),
                    width: `max(1px, ${span(r.readySeconds!, r.serviceSeconds!)})`,
                    bgcolor: 'text.secondary',
                  }}
                />
                {r.rtoSeconds !== null && r.rtoSeconds <= seconds && (
                  <Box
                    sx={{
                      position: 'absolute',
                      top: 3,
                      height: 18,
                      left: x(r.rtoSeconds),
                      width: '2px',
                      bgcolor: r.withinRto ? 'line' : 'verdict.breached',
                    }}
                  />
                )}
              </>
            )}
          </Box>
          <Box
            sx={{
              borderTop: 1,
              borderColor: 'divider',
              py: 0.4,
              textAlign: 'right',
              whiteSpace: 'nowrap',
              color: r.withinRto === false ? 'verdict.breached' : 'text.primary',
            }}
            title={r.aloneSeconds === null ? undefined : `alone ${duration(r.aloneSeconds)}`}
          >
            {r.serviceSeconds === null ? 'never' : duration(r.serviceSeconds)}
            <Box component="span" sx={{ color: 'text.secondary' }}>
              {' '}
              / {r.rtoSeconds === null ? 'none' : duration(r.rtoSeconds)}
            </Box>
            {r.lateForTheOthers && <Box sx={{ fontSize: 11 }}>alone {duration(r.aloneSeconds!)}</Box>}
          </Box>
        </Box>
      ))}
    </Box>
  );
}
