import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got, type Schemas } from '../../api/client';
import { Failure } from '../../shared/Failure';
import { localTime, utc } from '../../shared/format';

/** The commits around the instant wanted, each with the way to stop exactly before it. */
export function CommitList(props: {
  database: string;
  target: number | null;
  zone: string;
  chosen: { before: number; said: string } | null;
  onChoose: (commit: Schemas['CommitView'] | null) => void;
}) {
  const { database, target, zone, chosen, onChoose } = props;
  const [open, setOpen] = useState(false);
  // What is listed stays as it is while one chooses from it.
  const [around, setAround] = useState<number | null>(null);
  const at = around ?? target;
  const commits = useQuery({
    queryKey: ['commits', database, at],
    enabled: open && at !== null,
    queryFn: () =>
      got(
        api.GET('/api/databases/{id}/commits', {
          params: { path: { id: database }, query: { at: utc(at!), take: 12 } },
        }),
      ),
  });
  return (
    <Box component="section" aria-label="Commits" sx={{ mb: 1.5, fontSize: 12.5 }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1, flexWrap: 'wrap' }}>
        {chosen && (
          <span data-testid="before">
            Stops exactly before <b>{chosen.said}</b>, which is not in it.
          </span>
        )}
        <Button
          variant="outlined"
          onClick={() => {
            setAround(target);
            setOpen(!open);
          }}
          aria-expanded={open}
        >
          {open ? 'Close the commits' : chosen ? 'Another commit' : 'Just before a commit'}
        </Button>
        {chosen && <Button onClick={() => onChoose(null)}>Only the instant</Button>}
      </Box>
      {open && (
        <Box sx={{ border: 1, borderColor: 'divider', borderRadius: 1, mt: 1, maxHeight: 260, overflow: 'auto' }}>
          {commits.error && <Failure error={commits.error} />}
          {commits.data?.length === 0 && (
            <Box sx={{ p: 1, color: 'text.secondary' }}>No commit lies within half a minute of this instant.</Box>
          )}
          {(commits.data ?? []).map((c) => {
            const later = at !== null && Date.parse(c.target) > at;
            return (
              <Box
                key={c.before}
                sx={{
                  display: 'grid',
                  gridTemplateColumns: '190px minmax(110px, 1fr) 130px auto',
                  alignItems: 'center',
                  gap: 1,
                  px: 1,
                  borderBottom: 1,
                  borderColor: 'divider',
                  color: later ? 'text.secondary' : undefined,
                  bgcolor: chosen?.before === c.before ? 'action.selected' : undefined,
                }}
              >
                <span>
                  {localTime(c.at, zone)}
                  {/* To the microsecond: two of one millisecond are told apart. */}
                  <Box component="span" sx={{ color: 'text.secondary' }}>
                    {c.at.slice(19, 26).replace('Z', '')}
                  </Box>
                </span>
                <span>{c.name ?? `transaction ${c.transaction}`}</span>
                <code>{c.position}</code>
                <Button size="small" onClick={() => onChoose(c)} aria-label={`Stop before ${c.name ?? c.transaction}`}>
                  Stop before it
                </Button>
              </Box>
            );
          })}
        </Box>
      )}
    </Box>
  );
}
