import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import ToggleButton from '@mui/material/ToggleButton';
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import { api, got, type Schemas } from '../../api/client';
import { useAddress } from '../../app/address';
import { useClock } from '../../app/live';
import { useZone } from '../../app/places';
import { useMay } from '../../app/session';
import { Failure } from '../../shared/Failure';
import { count, daysLater, duration, localDay, localTime, startOfDay, utc } from '../../shared/format';
import { clashWord } from '../../shared/words';
import { Side } from '../../shared/Side';
import { Worksheet } from '../../shared/Worksheet';
import { ChosenRun } from './ChosenRun';
import { Lanes, type Lane } from './Lanes';
import { NowPanel } from './NowPanel';
import { PausePanel } from './PausePanel';
import { ProposalPanel } from './ProposalPanel';
import { TimetableTabs } from './TimetableTabs';

type Run = Schemas['LaneRun'];
const hour = 3_600_000;
/** How many days each span has; a week with a change of the clock is an hour longer or shorter. */
const days: Record<string, number> = { day: 1, week: 7, month: 28 };
/** What ran and what will run, in lanes by host, store, link or plan, with the load it makes. */
export default function TimetablePage() {
  const zone = useZone();
  const clock = useClock();
  const [params, put] = useAddress();
  const span = params.get('span') ?? 'day';
  const by = params.get('by') ?? 'host';
  const chosen = params.get('run');
  const [start, setStart] = useState<number | null>(null);
  const [minutes, setMinutes] = useState(0);
  const mayPlan = useMay('plan');
  // A day begins two hours ago, so that whatever comes daily is on it, be it running just now.
  const now = clock ? clock.now : 0;
  const from = start ?? (span === 'day' ? Math.floor(now / hour) * hour - 2 * hour : startOfDay(now, zone));
  const to = daysLater(from, zone, days[span]!) + (span === 'day' ? 2 * hour : 0);
  const shift = (sign: number) =>
    setStart(span === 'day' ? from + sign * 13 * hour : startOfDay(from, zone, sign * Math.floor(days[span]! / 2)));
  const table = useQuery({
    queryKey: ['timetable', from, span],
    enabled: now > 0,
    placeholderData: keepPreviousData,
    queryFn: () => got(api.GET('/api/timetable', { params: { query: { from: utc(from), to: utc(to) } } })),
  });
  const d = table.data;
  const lanes = useMemo(() => (d ? arrange(d, by) : []), [d, by]);
  const run = d?.runs.find((r) => keyOf(r) === chosen);
  if (table.error) return <Failure error={table.error} again={() => void table.refetch()} />;
  return (
    <Worksheet side={300}>
      <Box sx={{ p: 2, minWidth: 0 }}>
        <TimetableTabs title="Timetable">
          <Box sx={{ flex: 1 }} />
          <ToggleButtonGroup
            size="small"
            exclusive
            value={span}
            onChange={(_, v: string | null) => v && (setStart(null), put({ span: v === 'day' ? null : v }))}
            aria-label="How long"
          >
            {Object.keys(days).map((s) => (
              <ToggleButton key={s} value={s} sx={{ py: 0.25, textTransform: 'none' }}>
                {s}
              </ToggleButton>
            ))}
          </ToggleButtonGroup>
          <ToggleButtonGroup
            size="small"
            exclusive
            value={by}
            onChange={(_, v: string | null) => v && put({ by: v === 'host' ? null : v })}
            aria-label="Lanes by"
          >
            {['host', 'store', 'link', 'plan'].map((s) => (
              <ToggleButton key={s} value={s} sx={{ py: 0.25, textTransform: 'none' }}>
                by {s}
              </ToggleButton>
            ))}
          </ToggleButtonGroup>
        </TimetableTabs>
        <Box sx={{ display: 'flex', alignItems: 'center', gap: 1, mb: 0.5 }}>
          <Button onClick={() => shift(-1)} aria-label="Earlier">
            ◂ earlier
          </Button>
          <b>
            {localTime(from, zone, false)} to {localTime(to, zone, false)}
          </b>
          <Button onClick={() => shift(1)} aria-label="Later">
            later ▸
          </Button>
          {start !== null && <Button onClick={() => setStart(null)}>Now</Button>}
          <Box sx={{ flex: 1 }} />
          <Box sx={{ color: 'text.secondary', fontSize: 12.5 }}>
            {d
              ? `${count(d.runs.length)} runs${d.cut ? ' shown, more are not' : ''}${d.logRuns > 0 ? ` · ${count(Math.round(d.logRuns))} log backups in the load, not drawn` : ''}`
              : 'Simulating…'}
          </Box>
          <Button href="/api/timetable.ics" download>
            Calendar file
          </Button>
        </Box>
        {d && lanes.length > 0 && (
          <Lanes
            table={d}
            lanes={lanes}
            zone={zone}
            chosen={chosen}
            keyOf={keyOf}
            minutes={minutes}
            onChoose={(r) => {
              setMinutes(0);
              put({ run: r ? keyOf(r) : null });
            }}
            onMove={
              mayPlan
                ? (r, by) => {
                    setMinutes(by);
                    put({ run: keyOf(r) });
                  }
                : undefined
            }
          />
        )}
        {d && lanes.length === 0 && (
          <Box sx={{ color: 'text.secondary', py: 3 }}>
            Nothing runs here. Make a plan, and its runs appear in lanes.
          </Box>
        )}
      </Box>
      <Side label="Clashes">
        {run && <ChosenRun key={keyOf(run)} run={run} zone={zone} minutes={minutes} onMove={setMinutes} />}
        <NowPanel />
        <h2 style={{ margin: '2px 0 8px', fontSize: 15 }}>Clashes</h2>
        {d?.clashes.length === 0 && <Box sx={{ color: 'text.secondary' }}>None expected in what is shown.</Box>}
        {d?.clashes.slice(0, 10).map((c, i) => (
          <Box key={i} sx={{ py: 0.75, borderTop: 1, borderColor: 'divider' }}>
            <Box sx={{ fontWeight: 600 }}>
              {c.kind === 'storeFull' || c.kind === 'linkSaturated'
                ? `${c.place} ${clashWord(c.kind)}`
                : `${c.count} ${c.count === 1 ? 'run' : 'runs'} of ${c.plan}, ${c.task}: ${clashWord(c.kind, c.count)}`}
            </Box>
            <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
              {c.kind === 'storeFull' ? `on ${localDay(c.at, zone)}` : `first ${localTime(c.at, zone, false)}`}
              {c.worstSeconds > 0 && `, worst ${duration(c.worstSeconds)}${c.database ? ` (${c.database})` : ''}`}
              {c.kind !== 'storeFull' && c.kind !== 'linkSaturated' && ` on ${c.place}`}
            </Box>
          </Box>
        ))}
        <ProposalPanel />
        <PausePanel />
      </Side>
    </Worksheet>
  );
}

const keyOf = (r: Run) => r.run ?? `${r.plan}|${r.task}|${r.database}|${r.due}`;

function arrange(d: Schemas['TimetableView'], by: string): Lane[] {
  const places = (r: Run): string[] =>
    by === 'plan' ? [r.plan] : by === 'host' ? [r.host] : by === 'store' ? (r.store ? [r.store, ...r.copyTo] : []) : [];
  const lanes = new Map<string, Lane>();
  const lane = (name: string) => {
    let l = lanes.get(name);
    if (!l) lanes.set(name, (l = { name, runs: [], load: d.loads.find((x) => x.place === name) }));
    return l;
  };
  if (by === 'link') d.loads.filter((l) => l.place.includes('–')).forEach((l) => lane(l.place));
  for (const r of d.runs) for (const p of places(r)) lane(p).runs.push(r);
  return [...lanes.values()].toSorted((a, b) => a.name.localeCompare(b.name));
}
