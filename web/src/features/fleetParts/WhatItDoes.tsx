import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import type { Schemas } from '../../api/client';
import { duration } from '../../shared/format';
import { byNeed, VerdictMark } from '../../shared/VerdictMark';

/** What a change of the fleet does to the verdicts of the databases that it concerns. */
export function WhatItDoes({ preview: p }: { preview: Schemas['PartPreview'] }) {
  if (p.fault !== null)
    return (
      <Alert severity="error" variant="outlined">
        It cannot be so: {p.fault}.
      </Alert>
    );
  const same = p.changed.length === 0;
  return (
    <>
      <Box sx={{ mb: 1 }} data-testid="does">
        {p.affected === 0 ? (
          'It concerns no verdict.'
        ) : (
          <>
            {same ? 'Nothing becomes better or worse' : `${p.better} better, ${p.worse} worse`} of {p.judged}{' '}
            {p.judged < p.affected && `judged, of ${p.affected} `}
            {p.affected === 1 ? 'database' : 'databases'} it may concern.
          </>
        )}
      </Box>
      {p.changed.map((r) => (
        <Box key={r.database} sx={{ mb: 1 }}>
          <Box sx={{ display: 'flex', gap: 0.75, alignItems: 'center' }}>
            <b>{r.name}</b> <VerdictMark verdict={r.before} /> → <VerdictMark verdict={r.after} />
          </Box>
          <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
            could lose {duration(r.losesBefore)} → {duration(r.losesAfter)} · back in {duration(r.backBefore)} →{' '}
            {duration(r.backAfter)}
          </Box>
          {r.why && (
            <Box sx={{ fontSize: 12, color: byNeed(r.after) < byNeed(r.before) ? 'verdict.breached' : undefined }}>
              {r.why}
            </Box>
          )}
        </Box>
      ))}
    </>
  );
}
