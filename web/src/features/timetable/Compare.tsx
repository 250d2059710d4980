import Box from '@mui/material/Box';
import type { Schemas } from '../../api/client';
import { duration } from '../../shared/format';

/** How crowded a week is, before and after. */
export function Compare({ before, after }: { before: Schemas['CrowdView']; after: Schemas['CrowdView'] }) {
  const rows: [string, string, string, boolean][] = [
    [
      'windows missed',
      String(before.windowsMissed),
      String(after.windowsMissed),
      after.windowsMissed <= before.windowsMissed,
    ],
    [
      'waiting, all together',
      duration(before.waitingSeconds),
      duration(after.waitingSeconds),
      after.waitingSeconds <= before.waitingSeconds,
    ],
    [
      'slower than alone',
      `${before.stretch.toFixed(1)} times`,
      `${after.stretch.toFixed(1)} times`,
      after.stretch <= before.stretch,
    ],
    [
      'most at once on a host',
      String(before.mostAtOnce),
      String(after.mostAtOnce),
      after.mostAtOnce <= before.mostAtOnce,
    ],
    [
      'longest, from due to end',
      duration(before.longestSeconds),
      duration(after.longestSeconds),
      after.longestSeconds <= before.longestSeconds + 1,
    ],
  ];
  return (
    <Box
      component="table"
      aria-label="A week before and after"
      sx={{ width: '100%', my: 0.5, fontSize: 12.5, '& td, & th': { textAlign: 'left', fontWeight: 400 } }}
    >
      <thead>
        <Box component="tr" sx={{ color: 'text.secondary' }}>
          <th>a week</th>
          <th>now</th>
          <th>then</th>
        </Box>
      </thead>
      <tbody>
        {rows.map(([word, b, a, good]) => (
          <tr key={word}>
            <td>{word}</td>
            <td>{b}</td>
            <Box
              component="td"
              sx={{ fontWeight: '650 !important', color: good ? 'text.primary' : 'verdict.breached' }}
            >
              {a}
            </Box>
          </tr>
        ))}
      </tbody>
    </Box>
  );
}
