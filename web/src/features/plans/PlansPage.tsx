import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import Menu from '@mui/material/Menu';
import MenuItem from '@mui/material/MenuItem';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useLocation } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useGo, withPremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { Failure } from '../../shared/Failure';
import { duration } from '../../shared/format';
import { Side } from '../../shared/Side';
import { Worksheet } from '../../shared/Worksheet';
import { kindWord } from './draft';
import { FindingList } from './FindingList';
import { PutUnderPlan } from './PutUnderPlan';

const columns = 'minmax(170px, 1fr) 76px minmax(240px, 1.7fr) 96px 96px 92px 84px';

/** All plans with what they are designed to keep; and what no plan covers. */
export default function PlansPage() {
  const { search } = useLocation();
  const go = useGo();
  const may = useMay('plan');
  const [left, setLeft] = useState<string[]>([]);
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  const plans = useQuery({ queryKey: ['plans'], queryFn: () => got(api.GET('/api/plans')) });
  const ready = useQuery({
    queryKey: ['ready-plans'],
    enabled: may,
    staleTime: Infinity,
    queryFn: () => got(api.GET('/api/ready-plans')),
  });
  if (plans.error) return <Failure error={plans.error} again={() => void plans.refetch()} />;
  const d = plans.data;
  return (
    <Worksheet side={300}>
      <Box sx={{ p: 2, minWidth: 0 }}>
        <Box sx={{ display: 'flex', alignItems: 'center', gap: 2, mb: 1 }}>
          <h1 style={{ fontSize: 20, margin: 0 }}>Plans</h1>
          <Box sx={{ color: 'text.secondary' }}>
            {d
              ? `${d.plans.length} plans for ${d.plans.reduce((n, p) => n + p.members, 0)} databases`
              : 'Simulating the coming week…'}
          </Box>
          <Box sx={{ flex: 1 }} />
          {may && (
            <>
              <Button variant="contained" onClick={(e) => setAnchor(e.currentTarget)} aria-haspopup="menu">
                New plan…
              </Button>
              <Menu anchorEl={anchor} open={anchor !== null} onClose={() => setAnchor(null)}>
                {(ready.data ?? []).map((r, i) => (
                  <MenuItem key={i} onClick={() => go('/plans/new', { ready: String(i) })}>
                    {(r as unknown as { name: string }).name}
                  </MenuItem>
                ))}
              </Menu>
            </>
          )}
        </Box>
        <Box role="table" aria-label="Plans">
          <Box
            role="row"
            sx={{
              display: 'grid',
              gridTemplateColumns: columns,
              gap: 1.5,
              color: 'text.secondary',
              fontSize: 12,
              borderBottom: 1,
              borderColor: 'line',
              pb: 0.5,
            }}
          >
            {[
              'Plan',
              'Databases',
              'What it does',
              'Designed: could lose',
              'Designed: back in',
              'Objectives kept',
              'Findings',
            ].map((h) => (
              <span role="columnheader" key={h}>
                {h}
              </span>
            ))}
          </Box>
          {d?.plans.map((p) => (
            <PlanRow key={p.id} plan={p} to={withPremise(`/plans/${p.id}`, search)} />
          ))}
          {d?.plans.length === 0 && (
            <Box role="row" sx={{ py: 3, color: 'text.secondary' }}>
              <span role="cell">
                No plan yet. A plan says what is backed up how often, where to, and for how long. Begin with a ready
                one.
              </span>
            </Box>
          )}
        </Box>
      </Box>
      <Side label="Not covered">
        {(d?.unreadable?.length ?? 0) > 0 && (
          <Box component="section" aria-label="Plans that cannot be read" sx={{ mb: 2 }}>
            <h2 style={{ margin: '2px 0 8px', fontSize: 15 }}>Cannot be read</h2>
            {d!.unreadable.map((p) => (
              <Box key={p.id} sx={{ py: 0.5, borderTop: 1, borderColor: 'divider' }}>
                <Link to={withPremise(`/plans/${p.id}`, search)}>{p.id}</Link> does not run until somebody mends it and
                saves it anew
                <Box sx={{ color: 'text.secondary', fontSize: 12, overflowWrap: 'anywhere' }}>{p.why}</Box>
              </Box>
            ))}
          </Box>
        )}
        <h2 style={{ margin: '2px 0 8px', fontSize: 15 }}>Covered by no plan</h2>
        {d?.uncovered.length === 0 && <Box sx={{ color: 'text.secondary' }}>Every database is in a plan.</Box>}
        {d?.uncovered.slice(0, 50).map((id) => (
          <Box key={id} sx={{ display: 'flex', alignItems: 'center' }}>
            {may && (
              <Checkbox
                size="small"
                sx={{ p: 0.5 }}
                checked={!left.includes(id)}
                onChange={(_, on) => setLeft(on ? left.filter((x) => x !== id) : [...left, id])}
                slotProps={{ input: { 'aria-label': `Put ${id} under a plan` } }}
              />
            )}
            <Link to={withPremise(`/databases/${id}`, search)}>{id}</Link>
          </Box>
        ))}
        {may && d && d.uncovered.length > 0 && (
          <Box sx={{ mt: 1 }}>
            <PutUnderPlan databases={d.uncovered.slice(0, 50).filter((id) => !left.includes(id))} />
          </Box>
        )}
        {(d?.uncovered.length ?? 0) > 50 && <Box>and {d!.uncovered.length - 50} more</Box>}
        {(d?.conflicting.length ?? 0) > 0 && (
          <>
            <h2 style={{ margin: '16px 0 8px', fontSize: 15 }}>Caught by two plans</h2>
            {d!.conflicting.map((id) => (
              <Box key={id} sx={{ py: 0.5 }}>
                <Link to={withPremise(`/databases/${id}`, search)}>{id}</Link>
              </Box>
            ))}
          </>
        )}
        <h2 style={{ margin: '16px 0 8px', fontSize: 15 }}>Most urgent in plans</h2>
        <FindingList
          findings={(d?.plans ?? [])
            .flatMap((p) =>
              p.findings.map((f) => ({ ...f, plan: { name: p.name, to: withPremise(`/plans/${p.id}`, search) } })),
            )
            .filter((f) => f.urgency === 'now')
            .slice(0, 12)}
        />
      </Side>
    </Worksheet>
  );
}

function PlanRow({ plan: p, to }: { plan: Schemas['PlanLine']; to: string }) {
  const urgent = p.findings.filter((f) => f.urgency === 'now').length;
  return (
    <Box
      role="row"
      sx={{
        display: 'grid',
        gridTemplateColumns: columns,
        gap: 1.5,
        py: 0.75,
        borderBottom: 1,
        borderColor: 'divider',
        '&:hover': { bgcolor: 'background.paper' },
      }}
    >
      <Box role="cell">
        <Link to={to} style={{ fontWeight: 650, textDecoration: 'none' }}>
          {p.name}
        </Link>
        <Box sx={{ color: 'text.secondary', fontSize: 12 }}>version {p.version}</Box>
      </Box>
      <Box role="cell">{p.members}</Box>
      <Box role="cell" sx={{ minWidth: 0 }}>
        {p.tasks
          .filter((t) => t.when)
          .map((t) => (
            <Box key={t.id} sx={{ whiteSpace: 'nowrap', overflow: 'hidden', textOverflow: 'ellipsis' }}>
              <b>{kindWord[t.kind]}</b> {t.when}
              <Box component="span" sx={{ color: 'text.secondary' }}>
                {t.store && ` → ${[t.store, ...t.copyTo].join(', ')}`}
              </Box>
            </Box>
          ))}
      </Box>
      <Box role="cell">{p.worstExposureSeconds === null ? 'all of it' : duration(p.worstExposureSeconds)}</Box>
      <Box role="cell">{p.longestRestoreSeconds === null ? 'no way back' : duration(p.longestRestoreSeconds)}</Box>
      <Box
        role="cell"
        sx={{
          color: p.keeps < p.judged ? 'verdict.breached' : 'text.primary',
          fontWeight: p.keeps < p.judged ? 650 : 400,
        }}
      >
        {p.keeps} of {p.judged}
      </Box>
      <Box role="cell" sx={{ color: urgent > 0 ? 'verdict.breached' : 'text.secondary' }}>
        {p.findings.length === 0 ? 'none' : `${p.findings.length}${urgent > 0 ? `, ${urgent} now` : ''}`}
      </Box>
    </Box>
  );
}
