import Box from '@mui/material/Box';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got, type Schemas } from '../../api/client';
import { nowMs } from '../../app/live';
import { Failure } from '../../shared/Failure';
import { bytes, localDay, localTime } from '../../shared/format';
import type { PlanDraft } from './draft';

/** What clean-up would remove by these rules, today and on the days after, and how far back one could then still go. */
export function RetentionPanel({ plan, databases, zone }: { plan: PlanDraft; databases: string[]; zone: string }) {
  const [chosen, setChosen] = useState<string | null>(null);
  const database = chosen && databases.includes(chosen) ? chosen : databases[0];
  const preview = useQuery({
    queryKey: ['retention', plan, database],
    enabled: database !== undefined,
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () =>
      got(
        api.POST('/api/retention', {
          body: { plan: plan as unknown as Record<string, never>, database: database!, days: 14 },
        }),
      ),
  });
  const d = preview.data;
  return (
    <Box component="section" aria-label="Clean-up" sx={{ mt: 2 }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 2, mb: 0.5 }}>
        <h2 style={{ fontSize: 15, margin: 0 }}>What clean-up would remove</h2>
        {databases.length > 0 && (
          <TextField
            select
            value={database}
            onChange={(e) => setChosen(e.target.value)}
            slotProps={{ htmlInput: { 'aria-label': 'Of which database' } }}
            sx={{ minWidth: 160 }}
          >
            {databases.slice(0, 200).map((x) => (
              <MenuItem key={x} value={x}>
                {x}
              </MenuItem>
            ))}
          </TextField>
        )}
        {d && (
          <Box data-testid="clean-up">
            today <b>{d.copiesGo}</b> of {d.copiesNow} copies, {bytes(d.freedBytes)} freed
          </Box>
        )}
      </Box>
      {preview.error && <Failure error={preview.error} />}
      {d && (
        <>
          <BeforeAfter view={d} zone={zone} />
          <Box sx={{ display: 'flex', gap: 2, mt: 1, color: 'text.secondary', fontSize: 12.5, flexWrap: 'wrap' }}>
            {d.days
              .filter((x) => x.copies > 0)
              .slice(0, 6)
              .map((x) => (
                <span key={x.at}>
                  {localDay(x.at, zone)}: {x.copies} copies, {bytes(x.freedBytes)}
                </span>
              ))}
          </Box>
          <Box component="details" sx={{ mt: 0.5, '& summary': { cursor: 'pointer', color: 'text.secondary' } }}>
            <summary>Each copy, and why it stays or goes</summary>
            <Box component="table" sx={{ fontSize: 12.5, '& td': { pr: 2 } }}>
              <tbody>
                {d.copies.slice(0, 60).map((c) => (
                  <tr key={c.set + c.store}>
                    <td>{c.stays ? 'stays' : <b>goes</b>}</td>
                    <td>{c.kind}</td>
                    <td>{localTime(c.coversTo, zone, false)}</td>
                    <td>{c.store}</td>
                    <td>{c.reason}</td>
                  </tr>
                ))}
              </tbody>
            </Box>
          </Box>
        </>
      )}
    </Box>
  );
}

function BeforeAfter({ view: v, zone }: { view: Schemas['RetentionView']; zone: string }) {
  const now = nowMs();
  const first = Math.min(now - 7 * 86_400_000, ...v.before.map((s) => Date.parse(s.from)));
  const width = 760;
  const x = (t: string) => ((Date.parse(t) - first) / (now - first)) * width;
  const line = (spans: { from: string; to: string }[], y: number) =>
    spans.map((s, i) => (
      <rect
        key={i}
        x={x(s.from)}
        width={Math.max(1.5, x(s.to) - x(s.from))}
        y={y}
        height={10}
        fill="var(--mui-palette-primary-main)"
        opacity={0.85}
      />
    ));
  const back = (spans: { from: string }[]) =>
    spans.length === 0 ? 'nothing' : `back to ${localTime(spans[0]!.from, zone, false)}`;
  return (
    <svg
      viewBox={`0 0 ${width} 62`}
      width="100%"
      style={{ maxWidth: width }}
      role="img"
      aria-label={`Before: ${back(v.before)}. After: ${back(v.after)}.`}
    >
      <text x={0} y={10} fontSize={11.5} fill="var(--mui-palette-text-secondary)">
        now: {back(v.before)}
      </text>
      {line(v.before, 14)}
      <text x={0} y={41} fontSize={11.5} fill="var(--mui-palette-text-secondary)">
        after clean-up: {back(v.after)}
      </text>
      {line(v.after, 45)}
    </svg>
  );
}
