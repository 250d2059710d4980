import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useLocation } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { withPremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { Failure } from '../../shared/Failure';
import { duration, localTime } from '../../shared/format';
import { Compare } from './Compare';
import { canMove } from './Lanes';

/** The chosen run: what it is, and moving it by hand or keyboard, with the consequences before it is saved. */
export function ChosenRun({
  run: r,
  zone,
  minutes,
  onMove,
}: {
  run: Schemas['LaneRun'];
  zone: string;
  minutes: number;
  onMove: (minutes: number) => void;
}) {
  const may = useMay('plan');
  const { search } = useLocation();
  const queries = useQueryClient();
  const plan = useQuery({
    queryKey: ['plans', 'one', r.plan],
    queryFn: () => got(api.GET('/api/plans/{plan}', { params: { path: { plan: r.plan } } })),
  });
  const task = (
    (
      plan.data?.plan as unknown as
        { tasks: { id: string; spreadSeconds: number; offsets: { database: string; seconds: number }[] }[] } | undefined
    )?.tasks ?? []
  ).find((t) => t.id === r.task);
  const recurs = useQuery({
    queryKey: ['offset', r.plan, r.task, r.database, plan.data?.version],
    enabled: plan.data !== undefined,
    queryFn: async () => {
      const own = task?.offsets.find((o) => o.database === r.database)?.seconds;
      return (
        own ??
        (
          await got(
            api.GET('/api/offsets', { params: { query: { plan: r.plan, task: r.task, database: r.database } } }),
          )
        ).seconds
      );
    },
  });
  const offset = recurs.data ?? 0;
  const moves = [
    {
      plan: r.plan,
      task: r.task,
      database: r.database,
      fromSeconds: offset,
      toSeconds: Math.max(0, offset + minutes * 60),
    },
  ];
  const measure = useQuery({
    queryKey: ['measure', moves],
    enabled: minutes !== 0 && recurs.data !== undefined,
    placeholderData: keepPreviousData,
    queryFn: () => got(api.POST('/api/timetable/measure', { body: { moves } })),
  });
  const save = useMutation({
    mutationFn: () => got(api.POST('/api/timetable/accept', { body: { moves } })),
    onSuccess: () => {
      onMove(0);
      void queries.invalidateQueries({ queryKey: ['timetable'] });
      void queries.invalidateQueries({ queryKey: ['plans'] });
    },
  });
  const m = measure.data;
  return (
    <Box
      sx={{ mb: 2.5 }}
      onKeyDown={(e) => {
        if (e.key === 'ArrowRight' || e.key === 'ArrowLeft') {
          e.preventDefault();
          onMove(minutes + (e.key === 'ArrowRight' ? 5 : -5) * (e.shiftKey ? 12 : 1));
        }
      }}
    >
      <h2 style={{ margin: '2px 0 4px', fontSize: 15 }}>
        {r.task} of {r.database}
      </h2>
      <Box>
        {r.actual ? 'ran' : r.state === 'asked' ? 'asked for,' : 'expected'} {localTime(r.from, zone, false)} to{' '}
        {localTime(r.to, zone, false)} ({duration((Date.parse(r.to) - Date.parse(r.from)) / 1000)})
      </Box>
      <Box sx={{ color: 'text.secondary' }}>
        due {localTime(r.due, zone, false)}, {r.host}
        {r.store && ` → ${[r.store, ...r.copyTo].join(', ')}`}
        {r.late && <Box sx={{ color: 'verdict.breached' }}>ends after its window</Box>}
      </Box>
      {r.run && <Link to={withPremise(`/runs/${r.run}`, search)}>the run</Link>}
      {may && canMove(r) && (
        <Box sx={{ mt: 1 }}>
          <Button onClick={() => onMove(minutes - 15)}>15 min earlier</Button>
          <Button onClick={() => onMove(minutes + 15)}>15 min later</Button>
          <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
            Drag it in its lane, or move it with the arrow keys: 5 minutes, with Shift an hour.
          </Box>
          {minutes !== 0 && (
            <Box sx={{ mt: 0.5 }}>
              <b>
                {Math.abs(minutes)} min {minutes > 0 ? 'later' : 'earlier'} each time
              </b>
              {offset + minutes * 60 < 0 && <Box>It cannot start before the task is due; it would start when due.</Box>}
              {m && <Compare before={m.before} after={m.after} />}
              {m?.forced.map((f, i) => (
                <Box key={i} sx={{ color: 'verdict.breached' }}>
                  {f.database}: {f.reason}
                </Box>
              ))}
              <Button variant="contained" onClick={() => save.mutate()} disabled={save.isPending || !m}>
                Save the move
              </Button>
              <Button onClick={() => onMove(0)}>Leave it</Button>
            </Box>
          )}
          {save.error && <Failure error={save.error} />}
        </Box>
      )}
    </Box>
  );
}
