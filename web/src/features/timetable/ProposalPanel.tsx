import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got } from '../../api/client';
import { useMay } from '../../app/session';
import { Failure } from '../../shared/Failure';
import { duration } from '../../shared/format';
import { Compare } from './Compare';

/** A proposal that spreads start times; taken over whole or one by one. */
export function ProposalPanel() {
  const may = useMay('plan');
  const queries = useQueryClient();
  const [left, setLeft] = useState<Set<number>>(new Set());
  const ask = useMutation({
    mutationFn: () => got(api.GET('/api/timetable/proposal')),
    onSuccess: () => setLeft(new Set()),
  });
  const p = ask.data;
  const chosen = p?.moves.filter((_, i) => !left.has(i)) ?? [];
  const accept = useMutation({
    mutationFn: () => got(api.POST('/api/timetable/accept', { body: { moves: chosen } })),
    onSuccess: () => {
      ask.reset();
      void queries.invalidateQueries();
    },
  });
  return (
    <Box component="section" aria-label="Proposal" sx={{ mt: 2.5 }}>
      <h2 style={{ margin: '2px 0 6px', fontSize: 15 }}>A better timetable</h2>
      {!p && (
        <>
          <Box sx={{ color: 'text.secondary', mb: 0.5 }}>
            Other start times for the backups that take slots, so that fewer run at once and all end within their
            windows. Every objective that is kept stays kept.
          </Box>
          <Button variant="outlined" onClick={() => ask.mutate()} disabled={ask.isPending}>
            {ask.isPending ? 'Trying start times…' : 'Propose start times'}
          </Button>
        </>
      )}
      {accept.isSuccess && !p && (
        <Box data-testid="accepted" sx={{ mt: 0.5 }}>
          {accept.data.moves} moves taken over into {accept.data.plans} plans.
        </Box>
      )}
      {ask.error && <Failure error={ask.error} />}
      {p && p.moves.length === 0 && <Box>No other start times are better than those there are.</Box>}
      {p && p.moves.length > 0 && (
        <>
          <Compare before={p.before} after={p.after} />
          {may && (
            <Box sx={{ my: 0.5 }}>
              <Button
                variant="contained"
                onClick={() => accept.mutate()}
                disabled={accept.isPending || chosen.length === 0}
              >
                Take over {chosen.length === p.moves.length ? `all ${p.moves.length} moves` : `${chosen.length} moves`}
              </Button>
              <Button onClick={() => ask.reset()}>Leave it</Button>
            </Box>
          )}
          {accept.error && <Failure error={accept.error} />}
          <Box sx={{ maxHeight: 260, overflow: 'auto' }} tabIndex={0} role="region" aria-label="Moves">
            {p.moves.map((m, i) => (
              <Box key={i} sx={{ display: 'flex', alignItems: 'center', fontSize: 12.5 }}>
                <Checkbox
                  size="small"
                  sx={{ p: 0.25 }}
                  checked={!left.has(i)}
                  onChange={(_, on) => {
                    const next = new Set(left);
                    if (on) next.delete(i);
                    else next.add(i);
                    setLeft(next);
                  }}
                  slotProps={{ input: { 'aria-label': `${m.task} of ${m.database}` } }}
                />
                <span>
                  <b>{m.database}</b> {m.task}: {duration(Math.abs(m.toSeconds - m.fromSeconds))}{' '}
                  {m.toSeconds > m.fromSeconds ? 'later' : 'earlier'}
                </span>
              </Box>
            ))}
          </Box>
          {p.forced.length > 0 && (
            <Box sx={{ mt: 1, fontSize: 12.5, color: 'text.secondary' }}>
              Stays where it is:
              {p.forced.slice(0, 6).map((f, i) => (
                <Box key={i}>
                  {f.task} of {f.database}: {f.reason}
                </Box>
              ))}
            </Box>
          )}
        </>
      )}
    </Box>
  );
}
