import Box from '@mui/material/Box';
import TextField from '@mui/material/TextField';
import ToggleButton from '@mui/material/ToggleButton';
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup';
import { useQuery } from '@tanstack/react-query';
import { memo, useCallback, useDeferredValue, useMemo, useState } from 'react';
import { Link, useLocation } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useAddress } from '../../app/address';
import { useGo, usePremise, withPremise } from '../../app/premise';
import { Failure } from '../../shared/Failure';
import { UsedBar } from '../../shared/Figure';
import { count, duration } from '../../shared/format';
import { useRows } from '../../shared/useRows';
import { axisMarks, behind, farEnd } from './scale';
import { modeWord, stateColour, StateMark, stateWord, type State } from './words';
import { Wake } from './Wake';
import './replicas.css';

type Row = Schemas['ReplicaRow'];
/** A replica, or the heading of those that belong together. */
export type Line = { heading: string; rows: Row[] } | { row: Row };

const wakeWidth = 236;
const shownStates: State[] = ['broken', 'cutOff', 'behind', 'inStep'];

/** All replicas, those that need somebody first: how far each trails behind its primary, what that would lose, and how long it may stay away. */
export default function ReplicasPage() {
  const premise = usePremise();
  const [params, put] = useAddress();
  const only = params.get('only') as State | null;
  const [find, setFind] = useState(params.get('find') ?? '');
  const wanted = useDeferredValue(find.trim().toLowerCase());
  const replicas = useQuery({
    queryKey: ['replicas', premise.query.at],
    placeholderData: (before) => before,
    // Of thousands the answer is long; how far behind they are changes no faster for it.
    refetchInterval: (query) => (premise.at ? false : (query.state.data?.total ?? 0) > 1000 ? 30_000 : 5000),
    queryFn: () => got(api.GET('/api/replicas', { params: { query: { at: premise.query.at } } })),
  });
  const counts = useMemo(() => {
    const by = new Map<State, number>();
    replicas.data?.rows.forEach((r) => by.set(r.state, (by.get(r.state) ?? 0) + 1));
    return by;
  }, [replicas.data]);
  const lines = useMemo(
    () =>
      arrange(
        (replicas.data?.rows ?? []).filter(
          (r) =>
            (only === null || r.state === only) &&
            (wanted === '' ||
              [r.id, r.databaseName, r.database, r.host ?? r.array ?? '', r.site, r.group ?? ''].some((t) =>
                t.toLowerCase().includes(wanted),
              )),
        ),
      ),
    [replicas.data, only, wanted],
  );
  const most = useMemo(() => farEnd((replicas.data?.rows ?? []).map((r) => r.appliedLagSeconds ?? 0)), [replicas.data]);
  if (replicas.error) return <Failure error={replicas.error} again={() => void replicas.refetch()} />;
  return (
    <Box sx={{ display: 'flex', flexDirection: 'column', height: '100%', minHeight: 0 }}>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', alignItems: 'center', gap: 2, px: 2, py: 1 }}>
        <h1 style={{ fontSize: 18, margin: 0 }}>Replicas</h1>
        <ToggleButtonGroup
          size="small"
          exclusive
          value={only}
          aria-label="Only replicas that are"
          onChange={(_, v: State | null) => put({ only: v })}
        >
          {shownStates
            .filter((s) => counts.has(s) || s === only)
            .map((s) => (
              <ToggleButton
                key={s}
                value={s}
                sx={{ gap: 0.75, py: 0.25, px: 1, color: stateColour(s), '&.Mui-selected': { color: stateColour(s) } }}
              >
                <StateMark state={s} /> {count(counts.get(s) ?? 0)} {stateWord[s]}
              </ToggleButton>
            ))}
        </ToggleButtonGroup>
        <Box sx={{ flex: 1 }} />
        <Link to="/replicas/new">New replica</Link>
        <Link to="/databases/new">New database with one</Link>
        <TextField
          placeholder="Filter"
          value={find}
          onChange={(e) => setFind(e.target.value)}
          sx={{ width: 150 }}
          slotProps={{ htmlInput: { 'aria-label': 'Filter' } }}
        />
      </Box>
      <ReplicaTable
        lines={lines}
        at={replicas.data?.at ?? ''}
        most={most}
        none={replicas.isPending ? null : (replicas.data?.total ?? 0) === 0}
      />
    </Box>
  );
}

/** Those of a group, or of a database with several, stand together under a heading, where the one of them that needs somebody most would stand. */
export function arrange(rows: Row[]): Line[] {
  const together = new Map<string, Row[]>();
  for (const r of rows) {
    const key = r.group === null ? `of ${r.databaseName}` : `Group ${r.group}`;
    const own = together.get(key);
    if (own) own.push(r);
    else together.set(key, [r]);
  }
  // Where one by itself follows others it has a heading too, or it would seem to be one of them.
  let headed = false;
  return [...together].flatMap(([heading, own]): Line[] => {
    headed ||= own.length > 1 || own[0]!.group !== null;
    return [
      ...(headed ? [{ heading: own[0]!.group === null ? own[0]!.databaseName : heading, rows: own }] : []),
      ...own.map((row) => ({ row })),
    ];
  });
}

const ReplicaTable = memo(function ReplicaTable({
  lines,
  at,
  most,
  none,
}: {
  lines: Line[];
  at: string;
  most: number;
  none: boolean | null;
}) {
  const go = useGo();
  const { search } = useLocation();
  const height = useCallback((i: number) => ('row' in lines[i]! ? 44 : 28), [lines]);
  const { scroller, virtual, focus, setFocus, onKeyDown } = useRows({
    count: lines.length,
    isRow: (i) => 'row' in lines[i]!,
    height,
    page: 12,
    open: (i) => {
      const line = lines[i]!;
      if ('row' in line) go(`/replicas/${line.row.id}`);
    },
  });
  return (
    <div
      role="grid"
      aria-label="Replicas"
      aria-rowcount={lines.length + 1}
      tabIndex={-1}
      onKeyDown={onKeyDown}
      className="replica-grid"
    >
      <div role="row" className="replica-row head">
        <span role="columnheader">State</span>
        <span role="columnheader">Replica</span>
        <span role="columnheader" data-from="lg">
          Where, and how
        </span>
        <span role="columnheader" data-from="md" className="axis" style={{ width: wakeWidth }}>
          {axisMarks(most).map(([seconds, word]) => (
            <span key={word} style={{ right: 3 + behind(seconds, most) * (wakeWidth - 10) }}>
              {word}
            </span>
          ))}
          <span style={{ right: 0 }}>now</span>
        </span>
        <span role="columnheader">Could lose now</span>
        <span role="columnheader" data-from="lg">
          Worst 7 days · by design
        </span>
        <span role="columnheader">May stay away</span>
        <span role="columnheader" data-from="md">
          Caught up in
        </span>
      </div>
      <div ref={scroller} role="rowgroup" className="replica-lines">
        {lines.length === 0 && (
          <div role="row" className="replica-row" style={{ padding: 24, border: 0, display: 'block' }}>
            <span role="gridcell" className="faint">
              {none === null
                ? 'Working out every replica…'
                : none
                  ? 'This fleet names no replica. They stand in the fleet file under “replicas”, and what was seen of their lag in the catalogue file: import both in Setup.'
                  : 'No replica here. Clear the filter.'}
            </span>
          </div>
        )}
        <div role="presentation" style={{ height: virtual.getTotalSize(), position: 'relative' }}>
          {virtual.getVirtualItems().map((item) => {
            const line = lines[item.index]!;
            const style = { height: item.size, transform: `translateY(${item.start}px)` };
            return 'row' in line ? (
              <div
                key={item.key}
                role="row"
                aria-rowindex={item.index + 2}
                className="replica-row replica-line"
                style={style}
              >
                <Cells
                  row={line.row}
                  at={at}
                  most={most}
                  search={search}
                  index={item.index}
                  focused={focus === item.index}
                  onFocus={setFocus}
                />
              </div>
            ) : (
              <div key={item.key} role="row" className="replica-heading replica-line" style={style}>
                <span role="gridcell">
                  {line.heading}
                  <small>
                    {count(line.rows.length)} {line.rows.length === 1 ? 'replica' : 'replicas'}
                  </small>
                </span>
              </div>
            );
          })}
        </div>
      </div>
    </div>
  );
});

function Cells({
  row: r,
  at,
  most,
  search,
  index,
  focused,
  onFocus,
}: {
  row: Row;
  at: string;
  most: number;
  search: string;
  index: number;
  focused: boolean;
  onFocus: (i: number) => void;
}) {
  const over = r.rpoSeconds !== null && r.receivedLagSeconds !== null && r.receivedLagSeconds > r.rpoSeconds;
  return (
    <>
      <span role="gridcell" className="state" style={{ color: stateColour(r.state) }} title={r.whyBroken ?? undefined}>
        <StateMark state={r.state} /> {stateWord[r.state]}
      </span>
      <span role="gridcell" className="two">
        <Link
          to={withPremise(`/replicas/${r.id}`, search)}
          data-line={index}
          tabIndex={focused ? 0 : -1}
          onFocus={() => onFocus(index)}
        >
          {r.id}
        </Link>
        <small>
          of {r.databaseName}
          {r.fedBy && `, fed by ${r.fedBy}`}
        </small>
      </span>
      <span role="gridcell" className="two" data-from="lg">
        <span>
          {r.site}, {r.host ?? `array ${r.array}`}
        </span>
        {r.heldUpBy ? (
          <small className="over" title={r.heldUpBy}>
            {r.heldUpBy}
          </small>
        ) : (
          <small>
            {modeWord[r.mode]}
            {r.delaySeconds > 0 && `, held back ${duration(r.delaySeconds)}`}
          </small>
        )}
      </span>
      <span role="gridcell" data-from="md">
        <Wake of={r} at={at} most={most} width={wakeWidth} height={34} />
      </span>
      <span
        role="gridcell"
        className={over ? 'over' : undefined}
        title={r.rpoSeconds === null ? 'no objective was agreed' : `RPO ${duration(r.rpoSeconds)}`}
      >
        {r.receivedLagSeconds === null ? 'not known' : duration(r.receivedLagSeconds)}
        {r.rpoSeconds !== null && <span className="faint"> / {duration(r.rpoSeconds)}</span>}
      </span>
      <span role="gridcell" data-from="lg">
        {r.worstLossSeconds === null ? 'not known' : duration(r.worstLossSeconds)}
        <span className="faint"> · {r.byDesignSeconds === null ? 'never keeps up' : duration(r.byDesignSeconds)}</span>
      </span>
      <span role="gridcell" className="two">
        {r.toleratedOutageSeconds === null ? (
          <span className="faint">{r.receivedLagSeconds === null ? 'not known' : 'no limit stated'}</span>
        ) : (
          <>
            <span className={r.toleratedOutageSeconds === 0 ? 'over' : undefined}>
              {r.toleratedOutageSeconds === 0 ? 'too long already' : duration(r.toleratedOutageSeconds)}
            </span>
            <UsedBar value={(r.keptSeconds ?? 0) - r.toleratedOutageSeconds} limit={r.keptSeconds} width={96} />
          </>
        )}
      </span>
      <span role="gridcell" data-from="md">
        {r.receivedLagSeconds === null || r.state === 'broken'
          ? '–'
          : r.readCatchUpSeconds === null
            ? 'not in 30 days'
            : duration(r.readCatchUpSeconds)}
      </span>
    </>
  );
}
