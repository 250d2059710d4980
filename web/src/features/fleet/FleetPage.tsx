import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import ToggleButton from '@mui/material/ToggleButton';
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup';
import { useQuery } from '@tanstack/react-query';
import { useDeferredValue, useEffect, useMemo, useState } from 'react';
import { useLocation, useNavigate } from 'react-router';
import { api, got } from '../../api/client';
import { useAddress } from '../../app/address';
import { usePremise, withPremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { Failure } from '../../shared/Failure';
import { byName, count } from '../../shared/format';
import { byNeed, TileShape, verdictWord, type Verdict } from '../../shared/VerdictMark';
import { Worksheet } from '../../shared/Worksheet';
import { PutUnderPlan } from '../plans/PutUnderPlan';
import { FleetTable, type Line, type Row } from './FleetTable';
import { NeedsYou } from './NeedsYou';

/** All databases with all figures, the worst first within each service. */
export default function FleetPage() {
  const premise = usePremise();
  const [params, put] = useAddress();
  const only = params.get('only') as Verdict | null;
  // The address follows the filter when one stops typing; the rows follow at once, as fast as they can be drawn.
  const [typed, setTyped] = useState<string | null>(null);
  const find = typed ?? params.get('find') ?? '';
  const wanted = useDeferredValue(find);
  const finding = params.get('finding');
  const order = params.get('order') ?? 'service';
  const mayPlan = useMay('plan');
  const fleet = useQuery({
    queryKey: ['fleet', 'list', premise.query],
    placeholderData: (before) => before,
    // Designed figures are shown as they come.
    refetchInterval: (query) => (query.state.data?.designing ? 3000 : false),
    queryFn: () => got(api.GET('/api/fleet', { params: { query: premise.query } })),
  });
  const { search } = useLocation();
  const navigate = useNavigate();
  useEffect(() => {
    if (typed === null) return;
    const timer = setTimeout(() => {
      put({ find: typed || null }, true);
      setTyped(null);
    }, 400);
    return () => clearTimeout(timer);
    // eslint-disable-next-line react-hooks/exhaustive-deps -- only typing moves the address
  }, [typed]);
  const of = useQuery({
    queryKey: ['findings', 'databases', finding],
    enabled: finding !== null,
    queryFn: () => got(api.GET('/api/findings/databases', { params: { query: { key: finding! } } })),
  });
  const rowsOf = useMemo(() => {
    const ids = finding === null ? null : new Set(of.data ?? []);
    return searchable((fleet.data?.rows ?? []).filter((r) => ids === null || ids.has(r.id)));
  }, [fleet.data, finding, of.data]);
  // What was clicked answers at once; thousands of rows are put in order right after.
  const shownOnly = useDeferredValue(only);
  const shownOrder = useDeferredValue(order);
  const supposing = useDeferredValue(premise.loss !== 'none' || premise.at !== null);
  const lines = useMemo(() => arrange(rowsOf, wanted, shownOnly, shownOrder), [rowsOf, wanted, shownOnly, shownOrder]);
  const rows = useMemo(() => lines.flatMap((l) => ('row' in l ? [l.row.id] : [])), [lines]);
  const counts = useMemo(() => {
    const by = new Map<Verdict, number>();
    fleet.data?.rows.forEach((r) => by.set(r.verdict, (by.get(r.verdict) ?? 0) + 1));
    return by;
  }, [fleet.data]);
  if (fleet.error) return <Failure error={fleet.error} again={() => void fleet.refetch()} />;
  return (
    <Worksheet side={284} fill>
      <Box sx={{ display: 'flex', flexDirection: 'column', minHeight: 0, minWidth: 0 }}>
        <Box
          sx={{ display: 'flex', flexWrap: { xs: 'wrap', md: 'nowrap' }, alignItems: 'center', gap: 2, px: 2, py: 1 }}
        >
          <h1 style={{ fontSize: 18, margin: 0 }}>Fleet</h1>
          <ToggleButtonGroup
            size="small"
            exclusive
            value={only}
            onChange={(_, v: Verdict | null) => put({ only: v })}
            aria-label="Only databases that are"
          >
            {(['unprotected', 'breached', 'atRisk', 'unproven', 'proven'] as Verdict[]).map((v) => (
              <ToggleButton
                key={v}
                value={v}
                title={verdictWord[v]}
                aria-label={`${fleet.data ? count(counts.get(v) ?? 0) : ''} ${verdictWord[v]}`.trim()}
                sx={{
                  gap: 0.75,
                  py: 0.25,
                  px: 1,
                  textTransform: 'none',
                  color: `verdict.${v}`,
                  '&.Mui-selected': { color: `verdict.${v}` },
                }}
              >
                <TileShape verdict={v} /> {fleet.data && count(counts.get(v) ?? 0)}
                <Box component="span" sx={{ display: { xs: 'none', lg: 'inline' } }}>
                  {verdictWord[v]}
                </Box>
              </ToggleButton>
            ))}
          </ToggleButtonGroup>
          <Box sx={{ flex: 1 }} />
          <TextField
            placeholder="Filter"
            value={find}
            onChange={(e) => setTyped(e.target.value)}
            sx={{ width: 110 }}
            slotProps={{ htmlInput: { 'aria-label': 'Filter' } }}
          />
          <Button
            size="small"
            sx={{ whiteSpace: 'nowrap' }}
            onClick={() => put({ order: order === 'service' ? 'need' : null })}
          >
            {order === 'service' ? 'Sort by need' : 'By service'}
          </Button>
        </Box>
        {(wanted !== '' || only !== null || finding !== null) && (
          <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, px: 2, pb: 1 }}>
            {count(rows.length)} of {count(fleet.data?.rows.length ?? 0)} shown
            {finding !== null && (
              <Button onClick={() => void navigate(withPremise('/fleet', search))}>
                Those of one finding; show all
              </Button>
            )}
            {mayPlan && rows.length > 0 && <PutUnderPlan databases={rows} />}
          </Box>
        )}
        <FleetTable
          lines={lines}
          from={fleet.data?.coverFrom ?? ''}
          to={fleet.data?.at ?? ''}
          supposing={supposing}
          loading={fleet.isPending}
          designing={fleet.data?.designing ?? null}
        />
      </Box>
      <NeedsYou />
    </Worksheet>
  );
}

/** A row with what it is looked for by, so that a key in the filter costs one look at each. */
interface Searchable {
  row: Row;
  text: string;
  worst: number;
}

const searchable = (rows: Row[]): Searchable[] =>
  rows
    .map((row) => ({
      row,
      text: `${row.name} ${row.id} ${row.service ?? ''} ${row.host} ${row.engine}`.toLowerCase(),
      worst: Math.min(byNeed(row.supposed), byNeed(row.verdict)),
    }))
    .toSorted((a, b) => a.worst - b.worst || byName(a.row.name, b.row.name));

/** What is shown, in order: rows come sorted by need and name, so that only groups are put in order here. */
function arrange(rows: Searchable[], find: string, only: Verdict | null, order: string): Line[] {
  const wanted = find.trim().toLowerCase();
  const shown = rows.filter((r) => (!only || r.row.verdict === only) && (!wanted || r.text.includes(wanted)));
  if (order === 'need') return shown.map(({ row }) => ({ row }));
  const groups = new Map<string, Searchable[]>();
  for (const r of shown) {
    const service = r.row.service ?? 'No service';
    const members = groups.get(service);
    if (members) members.push(r);
    else groups.set(service, [r]);
  }
  return [...groups]
    .toSorted(([, a], [, b]) => a[0]!.worst - b[0]!.worst)
    .flatMap(([service, members]) => [
      { service, rows: members.map((m) => m.row) },
      ...members.map(({ row }) => ({ row })),
    ]);
}
