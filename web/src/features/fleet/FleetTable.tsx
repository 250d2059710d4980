import Box from '@mui/material/Box';
import Tooltip from '@mui/material/Tooltip';
import { useVirtualizer } from '@tanstack/react-virtual';
import { useRef, useState, type KeyboardEvent } from 'react';
import { Link, useLocation } from 'react-router';
import type { Schemas } from '../../api/client';
import { useGo, withPremise } from '../../app/premise';
import { UsedBar } from '../../shared/Figure';
import { duration } from '../../shared/format';
import { MiniStrip } from '../../shared/MiniStrip';
import { TileShape, verdictWord } from '../../shared/VerdictMark';
import { lossWord } from '../../shared/words';

export type Row = Schemas['FleetRow'];
/** A database, or the heading of a service above its own. */
export type Line = { service: string; rows: Row[] } | { row: Row };

/** The cells of a row. Narrower screens leave out what takes most room of all that the page of a database tells as well. */
const cells = {
  display: 'grid',
  gridTemplateColumns: {
    xs: '20px minmax(0, 1fr) 88px 88px',
    md: '20px minmax(132px, 1fr) 80px 126px 118px 82px 88px',
    lg: '20px minmax(132px, 1fr) 80px 120px 104px 126px 118px 82px 88px',
  },
  gap: 1,
  px: 2,
  borderBottom: 1,
  '& > [data-from="md"]': { display: { xs: 'none', md: 'block' } },
  '& > [data-from="lg"]': { display: { xs: 'none', lg: 'block' } },
} as const;
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

/** Databases as rows, however many: only those in sight are drawn; arrows move, Enter opens. */
export function FleetTable({
  lines,
  from,
  to,
  supposing,
  loading,
}: {
  lines: Line[];
  from: string;
  to: string;
  supposing: boolean;
  loading: boolean;
}) {
  const scroller = useRef<HTMLDivElement>(null);
  const [chosen, setFocus] = useState(0);
  // One row is always within reach of the Tab key; group headings are not rows to open.
  const focus = lines[chosen] && 'row' in lines[chosen] ? chosen : lines.findIndex((l) => 'row' in l);
  const go = useGo();
  // eslint-disable-next-line react-hooks/incompatible-library -- the virtualizer must be asked anew at each render, and is
  const virtual = useVirtualizer({
    count: lines.length,
    getScrollElement: () => scroller.current,
    estimateSize: (i) => ('row' in lines[i]! ? 32 : 28),
    overscan: 12,
  });
  const move = (e: KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1, PageDown: 15, PageUp: -15, Home: -lines.length, End: lines.length }[
      e.key
    ];
    const current = lines[focus];
    if (e.key === 'Enter' && current && 'row' in current) go(`/databases/${current.row.id}`);
    if (!step) return;
    e.preventDefault();
    const sign = Math.sign(step);
    let next = Math.max(0, Math.min(lines.length - 1, focus + step));
    while (lines[next] && !('row' in lines[next]!) && next + sign >= 0 && next + sign < lines.length) next += sign;
    setFocus(next);
    virtual.scrollToIndex(next);
    requestAnimationFrame(() => scroller.current?.querySelector<HTMLElement>(`[data-line="${next}"]`)?.focus());
  };
  return (
    <Box
      role="grid"
      aria-label="Databases"
      aria-rowcount={lines.length + 1}
      tabIndex={-1}
      onKeyDown={move}
      sx={{ flex: 1, minHeight: 0, display: 'flex', flexDirection: 'column' }}
    >
      <Box role="row" sx={{ ...cells, py: 0.5, borderColor: 'line', color: 'text.secondary', fontSize: 12 }}>
        {heads.map(([h, from], i) => (
          <span role="columnheader" key={i} data-from={from} style={{ whiteSpace: 'nowrap' }}>
            {h === 'losses'
              ? losses.map((l) => (
                  <span
                    key={l}
                    title={`Agreed: ${lossWord[l]}`}
                    style={{ display: 'inline-block', width: 24, textAlign: 'center', fontSize: 11 }}
                  >
                    {lossHead[l]}
                  </span>
                ))
              : h || <span style={{ position: 'absolute', clip: 'rect(0 0 0 0)' }}>Mark</span>}
          </span>
        ))}
      </Box>
      <Box ref={scroller} role="rowgroup" sx={{ flex: 1, minHeight: 0, overflow: 'auto' }}>
        {lines.length === 0 && (
          <Box role="row" sx={{ p: 3, color: 'text.secondary' }}>
            <span role="gridcell">
              {loading
                ? 'Working out every database under this premise…'
                : 'No database here. Import a fleet file in Setup, or clear the filter.'}
            </span>
          </Box>
        )}
        <div role="presentation" style={{ height: virtual.getTotalSize(), position: 'relative' }}>
          {virtual.getVirtualItems().map((item) => {
            const line = lines[item.index]!;
            const place = {
              position: 'absolute',
              top: 0,
              left: 0,
              right: 0,
              height: item.size,
              transform: `translateY(${item.start}px)`,
            } as const;
            return 'row' in line ? (
              <DatabaseRow
                key={item.key}
                row={line.row}
                index={item.index}
                from={from}
                to={to}
                supposing={supposing}
                style={place}
                focused={focus === item.index}
                onFocus={() => setFocus(item.index)}
              />
            ) : (
              <Box
                key={item.key}
                role="row"
                style={place}
                sx={{
                  px: 2,
                  display: 'flex',
                  alignItems: 'flex-end',
                  pb: 0.5,
                  gap: 1,
                  fontWeight: 650,
                  borderBottom: 1,
                  borderColor: 'divider',
                }}
              >
                <span role="gridcell">
                  {line.service}
                  <Box component="span" sx={{ ml: 1, fontWeight: 400, color: 'text.secondary' }}>
                    {line.rows.length} {line.rows.length === 1 ? 'database' : 'databases'}
                  </Box>
                </span>
              </Box>
            );
          })}
        </div>
      </Box>
    </Box>
  );
}

function DatabaseRow(props: {
  row: Row;
  index: number;
  from: string;
  to: string;
  supposing: boolean;
  style: React.CSSProperties;
  focused: boolean;
  onFocus: () => void;
}) {
  const { row } = props;
  const { search } = useLocation();
  const shown = props.supposing ? row.supposed : row.verdict;
  const why = props.supposing ? row.supposedReason : row.reasons[0];
  return (
    <Box
      role="row"
      aria-rowindex={props.index + 2}
      data-database={row.id}
      style={props.style}
      sx={{
        ...cells,
        alignItems: 'center',
        borderColor: 'divider',
        '&:hover, &:focus-within': { bgcolor: 'background.paper' },
      }}
    >
      <span role="gridcell">
        <TileShape verdict={shown} size={16} />
      </span>
      <Box role="gridcell" sx={{ minWidth: 0, overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: 'nowrap' }}>
        <Link
          to={withPremise(`/databases/${row.id}`, search)}
          data-line={props.index}
          tabIndex={props.focused ? 0 : -1}
          onFocus={props.onFocus}
          style={{ textDecoration: 'none', fontWeight: 600 }}
        >
          {row.name}
        </Link>
        <Box
          component="span"
          sx={{ display: { xs: 'none', md: 'inline' }, color: 'text.secondary', ml: 1, fontSize: 12 }}
        >
          {row.host}
        </Box>
      </Box>
      <Box
        role="gridcell"
        data-from="md"
        title={why ?? undefined}
        sx={{ color: `verdict.${shown}`, fontWeight: 600, overflow: 'hidden' }}
      >
        {verdictWord[shown]}
      </Box>
      <Box role="gridcell" data-from="lg">
        {losses.map((kind) => {
          const m = row.losses.find((l) => l.loss === kind);
          return (
            <Box
              key={kind}
              component="span"
              sx={{
                width: 24,
                height: 20,
                display: 'inline-flex',
                alignItems: 'center',
                justifyContent: 'center',
                verticalAlign: 'middle',
              }}
            >
              {m ? (
                <Tooltip title={`${lossWord[kind]}: ${verdictWord[m.verdict]}${m.reason ? ` — ${m.reason}` : ''}`}>
                  <span role="img" aria-label={`${lossWord[kind]}: ${verdictWord[m.verdict]}`}>
                    <TileShape verdict={m.verdict} size={13} />
                  </span>
                </Tooltip>
              ) : (
                <Box component="span" title={`${lossWord[kind]}: not agreed`} sx={{ color: 'line' }}>
                  ·
                </Box>
              )}
            </Box>
          );
        })}
      </Box>
      <span role="gridcell" data-from="lg">
        {props.from && <MiniStrip cover={row.cover} from={props.from} to={props.to} width={104} />}
      </span>
      <Cell seconds={row.couldLoseSeconds} limit={row.rpoSeconds} none="all of it" />
      <Cell
        seconds={row.backInSeconds}
        limit={row.rtoSeconds}
        none={row.noPath ? 'no way back' : 'not known'}
        title={row.noPath}
      />
      <Box
        role="gridcell"
        data-from="md"
        sx={{
          whiteSpace: 'nowrap',
          overflow: 'hidden',
          color: row.plans.length === 0 || row.designedLosesAll ? 'verdict.breached' : 'text.primary',
        }}
        title={
          row.plans.length === 0
            ? 'No plan covers it'
            : `${row.plans.join(', ')}: could lose ${designed(row)}, back in ${duration(row.designedBackInSeconds)}`
        }
      >
        {row.plans.length === 0 ? 'no plan' : designed(row)}
      </Box>
      <Box
        role="gridcell"
        data-from="md"
        sx={{ color: row.proofCounts ? 'text.primary' : 'text.secondary', whiteSpace: 'nowrap' }}
        title={
          row.proofAt
            ? `lost ${duration(row.proofLostSeconds)}, back in ${duration(row.proofServiceSeconds)}`
            : undefined
        }
      >
        {row.proofAt ? `${ago(row.proofAt, props.to)}${row.proofCounts ? '' : ', void'}` : 'never'}
      </Box>
    </Box>
  );
}

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
}: {
  seconds: number | null;
  limit: number | null;
  none: string;
  title?: string | null;
}) {
  const over = seconds === null || (limit !== null && seconds > limit);
  return (
    <Box
      role="gridcell"
      title={title ?? (limit === null ? undefined : `objective ${duration(limit)}`)}
      sx={{ minWidth: 0 }}
    >
      <Box
        sx={{
          whiteSpace: 'nowrap',
          color: over ? 'verdict.breached' : 'text.primary',
          fontWeight: over ? 650 : 400,
          lineHeight: 1.2,
        }}
      >
        {seconds === null ? none : duration(seconds)}
        {limit !== null && (
          <Box
            component="span"
            sx={{ display: { xs: 'none', md: 'inline' }, color: 'text.secondary', fontWeight: 400, fontSize: 11.5 }}
          >
            {' '}
            / {duration(limit)}
          </Box>
        )}
      </Box>
      <UsedBar value={seconds} limit={limit} width={84} />
    </Box>
  );
}
