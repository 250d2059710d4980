import { memo, useCallback } from 'react';
import { Link, useLocation } from 'react-router';
import type { Schemas } from '../../api/client';
import { useGo, withPremise } from '../../app/premise';
import { UsedBar } from '../../shared/Figure';
import { count, duration } from '../../shared/format';
import { MiniStrip } from '../../shared/MiniStrip';
import { ReplicaMark } from '../../shared/ReplicaMark';
import { useRows } from '../../shared/useRows';
import { TileShape, verdictWord } from '../../shared/VerdictMark';
import { lossWord } from '../../shared/words';
import './fleetTable.css';

export type Row = Schemas['FleetRow'];
/** A database, or the heading of a service above its own. */
export type Line = { service: string; rows: Row[] } | { row: Row };

const heads: [word: string, from?: 'md' | 'lg'][] = [
  [''],
  ['Database'],
  ['Verdict', 'md'],
  ['losses', 'lg'],
  ['Cover, 7 days', 'lg'],
  ['Could lose / RPO'],
  ['Back in / RTO'],
  ['Designed', 'md'],
  ['Last proof', 'md'],
];
const losses = ['none', 'host', 'array', 'site', 'hostile'];
const lossHead: Record<string, string> = { none: 'bad', host: 'host', array: 'arr.', site: 'site', hostile: 'del.' };

/** Databases as rows, however many: only those in sight are drawn, each anew only when it changes; arrows move, Enter opens. */
export const FleetTable = memo(function FleetTable({
  lines,
  from,
  to,
  supposing,
  loading,
  designing,
}: {
  lines: Line[];
  from: string;
  to: string;
  supposing: boolean;
  loading: boolean;
  /** How far the designed figures have come; null when all are there. */
  designing: Schemas['DesignProgress'] | null;
}) {
  const go = useGo();
  const { search } = useLocation();
  const height = useCallback((i: number) => ('row' in lines[i]! ? 32 : 28), [lines]);
  const { scroller, virtual, focus, setFocus, onKeyDown } = useRows({
    count: lines.length,
    isRow: (i) => 'row' in lines[i]!,
    height,
    page: 15,
    open: (i) => {
      const line = lines[i]!;
      if ('row' in line) go(`/databases/${line.row.id}`);
    },
  });
  return (
    <div
      role="grid"
      aria-label="Databases"
      aria-rowcount={lines.length + 1}
      tabIndex={-1}
      onKeyDown={onKeyDown}
      className="fleet-grid"
    >
      <div role="row" className="fleet-row head">
        {heads.map(([h, from], i) => (
          <span
            role="columnheader"
            key={i}
            data-from={from}
            title={
              h === 'Designed' && designing
                ? `Worked out for ${count(designing.made)} of ${count(designing.of)} databases so far`
                : undefined
            }
          >
            {h === 'losses'
              ? losses.map((l) => (
                  <span key={l} title={`Agreed: ${lossWord[l]}`} className="loss">
                    {lossHead[l]}
                  </span>
                ))
              : h === 'Designed' && designing
                ? `Designed, ${Math.floor((100 * designing.made) / designing.of)} %`
                : h || <span style={{ position: 'absolute', clip: 'rect(0 0 0 0)' }}>Mark</span>}
          </span>
        ))}
      </div>
      <div ref={scroller} role="rowgroup" className="fleet-lines">
        {lines.length === 0 && (
          <div role="row" className="fleet-row" style={{ padding: 24, border: 0, display: 'block' }}>
            <span role="gridcell" className="faint">
              {loading
                ? 'Working out every database under this premise…'
                : 'No database here. Import a fleet file in Setup, or clear the filter.'}
            </span>
          </div>
        )}
        <div role="presentation" style={{ height: virtual.getTotalSize(), position: 'relative' }}>
          {virtual.getVirtualItems().map((item) => {
            const line = lines[item.index]!;
            return 'row' in line ? (
              <DatabaseRow
                key={item.key}
                row={line.row}
                index={item.index}
                top={item.start}
                height={item.size}
                from={from}
                to={to}
                supposing={supposing}
                search={search}
                focused={focus === item.index}
                onFocus={setFocus}
              />
            ) : (
              <div
                key={item.key}
                role="row"
                className="fleet-service fleet-line"
                style={{ height: item.size, transform: `translateY(${item.start}px)` }}
              >
                <span role="gridcell">
                  {line.service}
                  <small>
                    {count(line.rows.length)} {line.rows.length === 1 ? 'database' : 'databases'}
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

const DatabaseRow = memo(function DatabaseRow({
  row,
  index,
  top,
  height,
  from,
  to,
  supposing,
  search,
  focused,
  onFocus,
}: {
  row: Row;
  index: number;
  top: number;
  height: number;
  from: string;
  to: string;
  supposing: boolean;
  search: string;
  focused: boolean;
  onFocus: (index: number) => void;
}) {
  const shown = supposing ? row.supposed : row.verdict;
  const why = supposing ? row.supposedReason : row.reasons[0];
  const noPlan = row.plans.length === 0;
  return (
    <div
      role="row"
      aria-rowindex={index + 2}
      data-database={row.id}
      className="fleet-row fleet-line"
      style={{ height, transform: `translateY(${top}px)` }}
    >
      <span role="gridcell">
        <TileShape verdict={shown} size={16} />
      </span>
      <span role="gridcell" className="name">
        <Link
          to={withPremise(`/databases/${row.id}`, search)}
          data-line={index}
          tabIndex={focused ? 0 : -1}
          onFocus={() => onFocus(index)}
        >
          {row.name}
        </Link>
        <span className="host">{row.host}</span>
      </span>
      <span
        role="gridcell"
        data-from="md"
        title={why ?? undefined}
        className="verdict"
        style={{ color: `var(--mui-palette-verdict-${shown})` }}
      >
        {verdictWord[shown]}
      </span>
      <span role="gridcell" data-from="lg">
        {losses.map((kind) => {
          const m = row.losses.find((l) => l.loss === kind);
          return m ? (
            <span
              key={kind}
              className="loss"
              role="img"
              title={`${lossWord[kind]}: ${verdictWord[m.verdict]}${m.reason ? ` — ${m.reason}` : ''}`}
              aria-label={`${lossWord[kind]}: ${verdictWord[m.verdict]}`}
            >
              <TileShape verdict={m.verdict} size={13} />
            </span>
          ) : (
            <span key={kind} className="loss" title={`${lossWord[kind]}: not agreed`}>
              ·
            </span>
          );
        })}
      </span>
      <span role="gridcell" data-from="lg">
        {from && <MiniStrip cover={row.cover} from={from} to={to} width={104} />}
      </span>
      <Cell seconds={row.couldLoseSeconds} limit={row.rpoSeconds} none="all of it" />
      <Cell
        seconds={row.backInSeconds}
        limit={row.rtoSeconds}
        none={row.noPath ? 'no way back' : 'not known'}
        title={row.takenOverBy ? `by taking over: ${row.takenOverBy}` : row.noPath}
        byReplica={row.takenOverBy !== null}
      />
      <span
        role="gridcell"
        data-from="md"
        className="clip"
        style={noPlan || row.designedLosesAll ? { color: 'var(--mui-palette-verdict-breached)' } : undefined}
        title={
          noPlan
            ? 'No plan covers it'
            : `${row.plans.join(', ')}: could lose ${designed(row)}, back in ${duration(row.designedBackInSeconds)}`
        }
      >
        {noPlan ? 'no plan' : designed(row)}
      </span>
      <span
        role="gridcell"
        data-from="md"
        className={row.proofCounts ? 'clip' : 'clip faint'}
        title={
          row.proofAt
            ? `lost ${duration(row.proofLostSeconds)}, back in ${duration(row.proofServiceSeconds)}`
            : undefined
        }
      >
        {row.proofAt ? `${ago(row.proofAt, to)}${row.proofCounts ? '' : ', void'}` : 'never'}
      </span>
    </div>
  );
});

/** The most that could be lost as planned; a dash while it is worked out. */
function designed(row: Row): string {
  if (row.designedLosesAll) return 'all of it';
  return row.designedWorstSeconds === null ? '–' : duration(row.designedWorstSeconds);
}

function ago(at: string, now: string): string {
  const s = (Date.parse(now) - Date.parse(at)) / 1000;
  return s < 60 ? 'just now' : `${duration(s).split(' ').slice(0, 2).join(' ')} ago`;
}

function Cell({
  seconds,
  limit,
  none,
  title,
  byReplica = false,
}: {
  seconds: number | null;
  limit: number | null;
  none: string;
  title?: string | null;
  /** Whether the figure rests on a replica that takes over. */
  byReplica?: boolean;
}) {
  const over = seconds === null || (limit !== null && seconds > limit);
  return (
    <span role="gridcell" title={title ?? (limit === null ? undefined : `objective ${duration(limit)}`)}>
      <span className={over ? 'figure over' : 'figure'}>
        {seconds === null ? none : duration(seconds)}
        {limit !== null && <span className="objective"> / {duration(limit)}</span>}
      </span>
      {((seconds !== null && limit !== null) || byReplica) && (
        <span className="bar">
          <UsedBar value={seconds} limit={limit} width={84} />
          {byReplica && <ReplicaMark />}
        </span>
      )}
    </span>
  );
}
