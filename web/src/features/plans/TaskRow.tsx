import Autocomplete from '@mui/material/Autocomplete';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got } from '../../api/client';
import { usePlaces } from '../../app/places';
import { localTime } from '../../shared/format';
import { keepWords, kindWord, makesSet, readKeep, shipWord, type TaskDraft } from './draft';
import { Typed } from './fields';
import { TaskDetails } from './TaskDetails';

const needsStore = (kind: string) => makesSet(kind) || kind === 'copyElsewhere';
const forFortnight = readKeep('14 d')!;

/** One task as a row: what, when in words, where to, how long it is kept; the rest unfolds. */
export function TaskRow({
  task: t,
  others,
  zone,
  said,
  onChange,
  onRemove,
  onShare,
  databases,
  plan,
}: {
  task: TaskDraft;
  others: string[];
  zone: string;
  said: string | undefined;
  onChange: (t: TaskDraft) => void;
  onRemove: () => void;
  onShare: () => void;
  databases: string[];
  plan: string;
}) {
  const stores = (usePlaces().data?.things ?? []).filter((p) => p.kind === 'store').map((p) => p.id);
  const [open, setOpen] = useState(false);
  const [typed, setTyped] = useState<string | null>(t.recurrence?.words ?? null);
  // What is not being typed is asked for as it is kept, rule and start: each task stands for itself, whatever another one says.
  const rule = t.recurrence?.rule;
  const query = {
    text: typed ?? rule ?? '',
    zone: t.recurrence?.zone ?? zone,
    from: (typed === null ? t.recurrence?.start : t.recurrence?.start?.slice(0, 10)) || undefined,
    except: [...(t.recurrence?.exceptDays ?? []), ...(t.recurrence?.exceptTimes ?? [])].join(',') || undefined,
  };
  const meaning = useQuery({
    queryKey: ['words', query],
    enabled: query.text !== '',
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () => got(api.GET('/api/words', { params: { query } })),
  });
  const words = typed ?? meaning.data?.said ?? said ?? rule ?? '';
  const put = (next: Partial<TaskDraft>) => onChange({ ...t, ...next });
  const type = (text: string) => {
    setTyped(text);
    put({
      recurrence:
        text === ''
          ? null
          : {
              ...t.recurrence,
              rule: undefined,
              words: text,
              zone: t.recurrence?.zone ?? zone,
              start: t.recurrence?.start?.slice(0, 10),
            },
    });
  };
  const follows = t.after.map(
    (a) =>
      `${a.on === 'success' ? 'after' : a.on === 'failure' ? 'when it fails:' : 'after, however it ends:'} ${a.task}`,
  );
  const m = meaning.data;
  const keeps = t.kind === 'shipBackup' || t.kind === 'shipCopy';
  return (
    <Box data-testid={`task-${t.id}`} sx={{ borderTop: 1, borderColor: 'divider', py: 1 }}>
      <Box
        sx={{
          display: 'grid',
          gridTemplateColumns: '132px minmax(170px, 1.3fr) 104px minmax(120px, 1fr) 112px 64px',
          gap: 1,
          alignItems: 'start',
        }}
      >
        <TextField
          select
          label="Task"
          value={t.kind}
          onChange={(e) =>
            put({
              kind: e.target.value,
              ...(shipWord[e.target.value] && { store: null, copyTo: [], keep: forFortnight }),
            })
          }
          slotProps={{ htmlInput: { 'aria-label': `Kind of ${t.id}` } }}
        >
          {Object.entries(kindWord).map(([k, w]) => (
            <MenuItem key={k} value={k}>
              {w}
            </MenuItem>
          ))}
        </TextField>
        <TextField
          label={t.after.length > 0 && words === '' ? follows.join(', ') : 'When'}
          value={words}
          onChange={(e) => type(e.target.value)}
          error={m?.error != null}
          helperText={m?.error ?? (m?.next[0] ? `next ${localTime(m.next[0], zone, false)}` : '')}
          title={m?.next.map((n) => localTime(n, zone, false)).join('\n')}
          slotProps={{ htmlInput: { 'aria-label': `When ${t.id}` } }}
        />
        {needsStore(t.kind) ? (
          <>
            <TextField select label="Store" value={t.store ?? ''} onChange={(e) => put({ store: e.target.value })}>
              {stores.map((s) => (
                <MenuItem key={s} value={s}>
                  {s}
                </MenuItem>
              ))}
            </TextField>
            <Autocomplete
              multiple
              size="small"
              limitTags={1}
              forcePopupIcon={false}
              disableClearable
              options={stores.filter((s) => s !== t.store)}
              value={t.copyTo}
              onChange={(_, copyTo) => put({ copyTo })}
              renderInput={(p) => <TextField {...p} label="Then copy to" />}
            />
            <Typed
              label="Keep"
              value={keepWords(t.keep)}
              read={readKeep}
              hint="such as 14 d, 4 weekly"
              onChange={(keep) => keep && put({ keep })}
            />
          </>
        ) : (
          <>
            <Box sx={{ gridColumn: keeps ? 'span 2' : 'span 3', color: 'text.secondary', pt: 0.75 }}>
              {[shipWord[t.kind], words === '' ? undefined : follows.join(', ') || undefined]
                .filter(Boolean)
                .join('; ')}
            </Box>
            {keeps && (
              <Typed
                label="Keep"
                value={keepWords(t.keep)}
                read={readKeep}
                hint="such as 12 h"
                onChange={(keep) => keep && put({ keep })}
              />
            )}
          </>
        )}
        <Button onClick={() => setOpen(!open)} aria-expanded={open} aria-label={`More about ${t.id}`}>
          {open ? 'Less' : 'More'}
        </Button>
      </Box>
      {open && (
        <TaskDetails
          task={t}
          others={others}
          zone={zone}
          next={m?.error ? undefined : m?.next}
          onChange={put}
          onRemove={onRemove}
          onShare={onShare}
          databases={databases}
          plan={plan}
        />
      )}
    </Box>
  );
}
