import Box from '@mui/material/Box';
import { Link, useLocation } from 'react-router';
import type { Schemas } from '../../api/client';
import { useZone } from '../../app/places';
import { withPremise } from '../../app/premise';
import { bytes, count, duration, localTime } from '../../shared/format';
import { runKindWord, stateColour, stateWord, took } from './words';

const columns = '124px 136px minmax(120px, 190px) minmax(110px, 1fr) 76px 108px 66px minmax(120px, 1.4fr)';

/** Runs of any kind, one a row. */
export function RunsTable({ runs, empty }: { runs: Schemas['RunLine'][]; empty: string }) {
  const zone = useZone();
  const { search } = useLocation();
  return (
    <Box role="table" aria-label="Runs">
      <Box
        role="row"
        sx={{
          display: 'grid',
          gridTemplateColumns: columns,
          gap: 1,
          color: 'text.secondary',
          fontSize: 12,
          borderBottom: 1,
          borderColor: 'line',
          pb: 0.5,
        }}
      >
        {['Due', 'State', 'What', 'Database', 'Stored', 'Took / expected', 'Attempts', 'Note'].map((h) => (
          <span role="columnheader" key={h}>
            {h}
          </span>
        ))}
      </Box>
      {runs.map((r) => (
        <RunRow
          key={r.id}
          run={r}
          zone={zone}
          to={withPremise(`/runs/${r.id}`, search)}
          each={withPremise('/runs', search, {
            state: 'failed',
            ...(r.plan ? { plan: r.plan } : {}),
            database: r.database,
            kind: r.kind,
            each: 'yes',
          })}
        />
      ))}
      {runs.length === 0 && empty && (
        <Box role="row" sx={{ py: 3, color: 'text.secondary' }}>
          <span role="cell">{empty}</span>
        </Box>
      )}
    </Box>
  );
}

function RunRow({
  run: r,
  zone,
  to,
  each,
}: {
  run: Schemas['RunLine'];
  zone: string;
  to: string;
  /** Where every one of the failures it stands for is a row. */
  each: string;
}) {
  const seconds = took(r);
  return (
    <Box
      role="row"
      sx={{
        display: 'grid',
        gridTemplateColumns: columns,
        gap: 1,
        minHeight: 32,
        alignItems: 'center',
        borderBottom: 1,
        borderColor: 'divider',
        '&:hover': { bgcolor: 'background.paper' },
      }}
    >
      <span role="cell">
        <Link to={to} style={{ textDecoration: 'none' }}>
          {localTime(r.due, zone, false)}
        </Link>
      </span>
      <Box
        role="cell"
        sx={{
          fontWeight: 600,
          color: stateColour(r.state, 'text.primary'),
        }}
      >
        {stateWord[r.state]}
        {r.like > 1 && ` ${count(r.like)} times`}
      </Box>
      <span role="cell" style={{ overflowWrap: 'anywhere' }}>
        {runKindWord[r.kind] ?? r.kind}
        {r.plan && ` · ${r.plan}`}
        {r.instance && ` · ${r.instance}`}
      </span>
      <span role="cell">{r.databaseName}</span>
      <span role="cell">{r.storedBytes > 0 ? bytes(r.storedBytes) : ''}</span>
      <span role="cell">
        {seconds === null ? '' : duration(seconds)}
        {r.expectedSeconds > 0 && (
          <Box component="span" sx={{ color: 'text.secondary' }}>
            {' '}
            / {duration(r.expectedSeconds)}
          </Box>
        )}
      </span>
      <span role="cell">{r.attempts > 0 ? r.attempts : ''}</span>
      <Box
        role="cell"
        sx={{ overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: 'nowrap' }}
        title={r.note ?? undefined}
      >
        {r.like > 1 && (
          <Link to={each} style={{ marginRight: 6 }}>
            since {localTime(r.firstLike!, zone, false)}
          </Link>
        )}
        {r.oddity && (
          <Box component="span" sx={{ color: 'verdict.atRisk', fontWeight: 600 }}>
            {r.oddity}{' '}
          </Box>
        )}
        {r.note}
        {r.askedBy && `${r.note ? ' · ' : ''}asked for by ${r.askedBy}`}
      </Box>
    </Box>
  );
}
