import Box from '@mui/material/Box';
import { useEffect, useState } from 'react';
import type { Schemas } from '../../api/client';
import { nowMs } from '../../app/live';
import { bytes, duration } from '../../shared/format';

type Run = Pick<Schemas['RunView'], 'run' | 'steps'>;

const stateWord: Record<Schemas['StepState'], string> = {
  waiting: 'waits',
  running: 'under way',
  done: 'done',
  failed: 'could not be done',
  stopped: 'broken off',
  undone: 'taken back',
  leftBehind: 'could not be taken back',
  skipped: 'not needed',
};

const broken = (state: Schemas['StepState']) => state === 'failed' || state === 'leftBehind';

/** Planned and actual bars of every step on one time axis. */
export function StepBars({ run: { run, steps } }: { run: Run }) {
  const [now, setNow] = useState(() => nowMs());
  useEffect(() => {
    if (run.ended) return;
    const timer = setInterval(() => setNow(nowMs()), 500);
    return () => clearInterval(timer);
  }, [run.ended]);
  const start = Date.parse(run.started ?? run.due);
  const live = steps.filter((s) => s.state !== 'skipped');
  const planned = Math.max(0, ...live.map((s) => s.plannedStart + (s.plannedSeconds ?? 0)));
  const end = run.ended ? Date.parse(run.ended) : now;
  const longest = Math.max(planned, (end - start) / 1000, 1);
  const pct = (s: number) => `${(Math.max(0, s) / longest) * 100}%`;
  return (
    <Box component="section" aria-label="Steps" sx={{ mt: 2 }}>
      <Box
        sx={{
          display: 'grid',
          gridTemplateColumns: { xs: 'minmax(0, 1fr) 112px', sm: 'minmax(220px, 320px) 1fr 172px' },
          columnGap: 1.5,
        }}
      >
        <Box sx={{ color: 'text.secondary', fontSize: 12 }}>Step</Box>
        <Box
          sx={{
            color: 'text.secondary',
            fontSize: 12,
            display: { xs: 'none', sm: 'flex' },
            justifyContent: 'space-between',
          }}
        >
          <span>begun</span>
          <span>planned above, actual below</span>
          <span>{duration(longest)}</span>
        </Box>
        <Box sx={{ color: 'text.secondary', fontSize: 12, textAlign: 'right' }}>actual / planned</Box>
        {live.map((s) => {
          const from = s.started ? (Date.parse(s.started) - start) / 1000 : null;
          const to = s.ended
            ? (Date.parse(s.ended) - start) / 1000
            : s.state === 'running'
              ? (now - start) / 1000
              : from;
          const took = from !== null && to !== null ? to - from : null;
          const colour = broken(s.state)
            ? 'error.main'
            : s.state === 'undone'
              ? 'line'
              : s.hold
                ? 'warning.main'
                : 'primary.main';
          return (
            <Box key={s.number} sx={{ display: 'contents' }}>
              <Box
                sx={{
                  py: 0.75,
                  borderTop: 1,
                  borderColor: 'divider',
                  opacity: s.state === 'undone' ? 0.6 : 1,
                  overflowWrap: 'anywhere',
                }}
              >
                <b>{s.number}.</b> {s.title}
                <Box sx={{ fontSize: 12, color: broken(s.state) ? 'error.main' : 'text.secondary' }}>
                  {stateWord[s.state]}
                  {s.state === 'running' && s.share > 0 && `, ${Math.round(s.share * 100)} %`}
                  {s.choice && `: ${s.choice}, by ${s.decidedBy}`}
                  {s.measuredBytes ? `, ${bytes(s.measuredBytes)}` : ''}
                  {s.takenUp > 0 && ' · taken up again after its process ended'}
                  {s.note && ` · ${s.note}`}
                </Box>
              </Box>
              <Box
                sx={{
                  borderTop: 1,
                  borderColor: 'divider',
                  position: 'relative',
                  minHeight: 40,
                  display: { xs: 'none', sm: 'block' },
                }}
              >
                {s.plannedSeconds !== null && (
                  <Box
                    sx={{
                      position: 'absolute',
                      top: 9,
                      height: 8,
                      left: pct(s.plannedStart),
                      width: `max(2px, ${pct(s.plannedSeconds)})`,
                      border: 1,
                      borderColor: 'text.secondary',
                    }}
                  />
                )}
                {from !== null && to !== null && (
                  <Box
                    sx={{
                      position: 'absolute',
                      top: 20,
                      height: 10,
                      left: pct(from),
                      width: `max(2px, ${pct(to - from)})`,
                      bgcolor: colour,
                    }}
                  />
                )}
              </Box>
              <Box sx={{ py: 0.75, borderTop: 1, borderColor: 'divider', textAlign: 'right', whiteSpace: 'nowrap' }}>
                {took === null ? '–' : duration(took)}
                <Box component="span" sx={{ color: 'text.secondary' }}>
                  {' '}
                  / {s.plannedSeconds === null ? (s.hold ? 'by people' : 'not planned') : duration(s.plannedSeconds)}
                </Box>
              </Box>
            </Box>
          );
        })}
      </Box>
    </Box>
  );
}
