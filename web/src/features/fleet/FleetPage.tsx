import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import ToggleButton from '@mui/material/ToggleButton';
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup';
import { useQuery } from '@tanstack/react-query';
import { useMemo } from 'react';
import { useSearchParams } from 'react-router';
import { api, got } from '../../api/client';
import { usePremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { Failure } from '../../shared/Failure';
import { byNeed, TileShape, verdictWord, type Verdict } from '../../shared/VerdictMark';
import { Worksheet } from '../../shared/Worksheet';
import { PutUnderPlan } from '../plans/PutUnderPlan';
import { FleetTable, type Line, type Row } from './FleetTable';
import { NeedsYou } from './NeedsYou';

/** All databases with all figures, the worst first within each service. */
export default function FleetPage() {
  const premise = usePremise();
  const [params, setParams] = useSearchParams();
  const only = params.get('only') as Verdict | null;
  const find = params.get('find') ?? '';
  const order = params.get('order') ?? 'service';
  const mayPlan = useMay('plan');
  const fleet = useQuery({
    queryKey: ['fleet', 'list', premise.query],
    placeholderData: (before) => before,
    queryFn: () => got(api.GET('/api/fleet', { params: { query: premise.query } })),
  });
  const put = (key: string, value: string | null) =>
    setParams(
      (before) => {
        const next = new URLSearchParams(before);
        if (value) next.set(key, value);
        else next.delete(key);
        return next;
      },
      { replace: key === 'find' },
    );
  const lines = useMemo(() => arrange(fleet.data?.rows ?? [], find, only, order), [fleet.data, find, only, order]);
  if (fleet.error) return <Failure error={fleet.error} again={() => void fleet.refetch()} />;
  const rows = lines.flatMap((l) => ('row' in l ? [l.row.id] : []));
  const counts = new Map<Verdict, number>();
  fleet.data?.rows.forEach((r) => counts.set(r.verdict, (counts.get(r.verdict) ?? 0) + 1));
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
            onChange={(_, v: Verdict | null) => put('only', v)}
            aria-label="Only databases that are"
          >
            {(['unprotected', 'breached', 'atRisk', 'unproven', 'proven'] as Verdict[]).map((v) => (
              <ToggleButton
                key={v}
                value={v}
                title={verdictWord[v]}
                aria-label={`${fleet.data ? (counts.get(v) ?? 0) : ''} ${verdictWord[v]}`.trim()}
                sx={{
                  gap: 0.75,
                  py: 0.25,
                  px: 1,
                  textTransform: 'none',
                  color: `verdict.${v}`,
                  '&.Mui-selected': { color: `verdict.${v}` },
                }}
              >
                <TileShape verdict={v} /> {fleet.data && (counts.get(v) ?? 0)}
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
            onChange={(e) => put('find', e.target.value)}
            sx={{ width: 110 }}
            slotProps={{ htmlInput: { 'aria-label': 'Filter' } }}
          />
          <Button
            size="small"
            sx={{ whiteSpace: 'nowrap' }}
            onClick={() => put('order', order === 'service' ? 'need' : null)}
          >
            {order === 'service' ? 'Sort by need' : 'By service'}
          </Button>
        </Box>
        {mayPlan && (find !== '' || only !== null) && rows.length > 0 && (
          <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, px: 2, pb: 1 }}>
            {rows.length} of {fleet.data?.rows.length} shown
            <PutUnderPlan databases={rows} />
          </Box>
        )}
        <FleetTable
          lines={lines}
          from={fleet.data?.coverFrom ?? ''}
          to={fleet.data?.at ?? ''}
          supposing={premise.loss !== 'none' || premise.at !== null}
          loading={fleet.isPending}
        />
      </Box>
      <NeedsYou />
    </Worksheet>
  );
}

function arrange(rows: Row[], find: string, only: Verdict | null, order: string): Line[] {
  const wanted = find.trim().toLowerCase();
  const shown = rows.filter(
    (r) =>
      (!only || r.verdict === only) &&
      (!wanted || `${r.name} ${r.id} ${r.service ?? ''} ${r.host} ${r.engine}`.toLowerCase().includes(wanted)),
  );
  const worst = (r: Row) => Math.min(byNeed(r.supposed), byNeed(r.verdict));
  const byWorst = (a: Row, b: Row) => worst(a) - worst(b) || a.name.localeCompare(b.name);
  if (order === 'need') return shown.toSorted(byWorst).map((row) => ({ row }));
  const groups = new Map<string, Row[]>();
  for (const r of shown) {
    const service = r.service ?? 'No service';
    const members = groups.get(service);
    if (members) members.push(r);
    else groups.set(service, [r]);
  }
  return [...groups]
    .toSorted(([, a], [, b]) => Math.min(...a.map(worst)) - Math.min(...b.map(worst)))
    .flatMap(([service, members]) => [
      { service, rows: members },
      ...members.toSorted(byWorst).map((row) => ({ row })),
    ]);
}
