import Box from '@mui/material/Box';
import { useEffect, useState } from 'react';
import type { Schemas } from '../../api/client';
import { nowMs } from '../../app/live';
import { duration } from '../../shared/format';
import { ownerWord } from './words';

/** The next thing a person must do: what, who, how long it has waited, and until when one can turn back. */
export function NextByPeople({ view }: { view: Schemas['RunView'] }) {
  const [now, setNow] = useState(() => nowMs());
  const asked = view.steps.find((s) => s.choices.length > 0);
  useEffect(() => {
    if (!asked) return;
    const timer = setInterval(() => setNow(nowMs()), 500);
    return () => clearInterval(timer);
  }, [asked]);
  if (!asked) return null;
  const before = view.steps
    .filter((s) => asked.after.includes(s.number))
    .map((s) => (s.ended ? Date.parse(s.ended) : 0));
  const since = asked.started ? Date.parse(asked.started) : Math.max(...before, 0);
  const last = view.steps.find((s) => (s.kind === 'promote' || s.kind === 'go') && s.number > asked.number);
  return (
    <Box role="status" sx={{ mt: 1.5, p: 1.5, border: 2, borderColor: 'warning.main', bgcolor: 'background.paper' }}>
      <Box sx={{ fontSize: 20, fontWeight: 650, lineHeight: 1.25 }}>{asked.title}</Box>
      <Box sx={{ mt: 0.5 }}>
        For {ownerWord(asked.owner)}
        {since > 0 && (
          <>
            ; it has waited <b>{duration(Math.max(0, (now - since) / 1000))}</b>
          </>
        )}
        .{' '}
        {view.cancellable
          ? `One can turn back until step ${last?.number ?? ''}: writes go on where they were, and nothing is changed.`
          : 'Roles have changed: there is no turning back, only going on.'}
      </Box>
    </Box>
  );
}
