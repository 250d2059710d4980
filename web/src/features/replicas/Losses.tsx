import Box from '@mui/material/Box';
import type { Schemas } from '../../api/client';
import { duration } from '../../shared/format';
import { lossWord } from '../../shared/words';

type Change = Schemas['ChangeView'];

const over = (seconds: number | null, limit: number | null) =>
  limit !== null && (seconds === null || seconds > limit) ? 'var(--mui-palette-verdict-breached)' : undefined;

function Agreed({ seconds }: { seconds: number | null }) {
  return seconds === null ? null : (
    <div style={{ fontSize: 11, fontWeight: 400, color: 'var(--mui-palette-text-secondary)' }}>
      {duration(seconds)} agreed
    </div>
  );
}

/** What each loss costs now and what it would cost then; what changes stands out. */
export function Losses({ changes, word }: { changes: Change[]; word: string }) {
  return (
    <Box
      component="table"
      sx={{
        mt: 1,
        borderCollapse: 'collapse',
        fontSize: 13,
        '& td, & th': {
          py: 0.25,
          pr: 2,
          whiteSpace: 'nowrap',
          textAlign: 'left',
          fontWeight: 400,
          verticalAlign: 'top',
        },
        '& th': { color: 'text.secondary', fontSize: 12 },
      }}
    >
      <thead>
        <tr>
          <th scope="col">Loss</th>
          <th scope="col">could lose now</th>
          <th scope="col">{word}</th>
          <th scope="col">back in, now</th>
          <th scope="col">{word}</th>
        </tr>
      </thead>
      <tbody>
        {changes.map((c) => (
          <tr key={c.kind}>
            <td>{lossWord[c.kind] ?? c.kind}</td>
            <td style={{ color: over(c.exposureSeconds, c.rpoSeconds) }}>
              {c.exposureSeconds === null ? 'all' : duration(c.exposureSeconds)}
            </td>
            <td
              style={{
                color: over(c.thenExposureSeconds, c.rpoSeconds),
                fontWeight: c.thenExposureSeconds === c.exposureSeconds ? 400 : 650,
              }}
            >
              {c.thenExposureSeconds === null ? 'all' : duration(c.thenExposureSeconds)}
              <Agreed seconds={c.rpoSeconds} />
            </td>
            <td style={{ color: over(c.serviceSeconds, c.rtoSeconds) }}>
              {c.serviceSeconds === null ? 'never' : duration(c.serviceSeconds)}
            </td>
            <td
              style={{
                color: over(c.thenServiceSeconds, c.rtoSeconds),
                fontWeight: c.thenServiceSeconds === c.serviceSeconds ? 400 : 650,
              }}
            >
              {c.thenServiceSeconds === null ? 'never' : duration(c.thenServiceSeconds)}
              <Agreed seconds={c.rtoSeconds} />
            </td>
          </tr>
        ))}
      </tbody>
    </Box>
  );
}
