import Autocomplete from '@mui/material/Autocomplete';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import FormControlLabel from '@mui/material/FormControlLabel';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got } from '../../api/client';
import { usePlaces } from '../../app/places';
import { localTime } from '../../shared/format';
import { AskForRun } from '../taskruns/AskForRun';
import { keepWords, kindWord, makesSet, readKeep, readSpan, spanWords, type TaskDraft } from './draft';

const needsStore = (kind: string) => makesSet(kind) || kind === 'copyElsewhere';

/** One task as a row: what, when in words, where to, how long it is kept; the rest unfolds. */
export function TaskRow({
  task: t,
  others,
  zone,
  said,
  onChange,
  onRemove,
  databases,
  plan,
}: {
  task: TaskDraft;
  others: string[];
  zone: string;
  said: string | undefined;
  onChange: (t: TaskDraft) => void;
  onRemove: () => void;
  databases: string[];
  plan: string;
}) {
  const stores = (usePlaces().data?.things ?? []).filter((p) => p.kind === 'store').map((p) => p.id);
  const [open, setOpen] = useState(false);
  const [typed, setTyped] = useState<string | null>(t.recurrence?.words ?? null);
  const words = typed ?? said ?? t.recurrence?.rule ?? '';
  const meaning = useQuery({
    queryKey: ['words', words, t.recurrence?.zone],
    enabled: words !== '',
    retry: false,
    queryFn: () => got(api.GET('/api/words', { params: { query: { text: words, zone: t.recurrence?.zone ?? zone } } })),
  });
  const put = (next: Partial<TaskDraft>) => onChange({ ...t, ...next });
  const type = (text: string) => {
    setTyped(text);
    put({
      recurrence:
        text === ''
          ? null
          : { words: text, zone: t.recurrence?.zone ?? zone, start: t.recurrence?.start?.slice(0, 10) },
    });
  };
  const follows = t.after.map(
    (a) =>
      `${a.on === 'success' ? 'after' : a.on === 'failure' ? 'when it fails:' : 'after, however it ends:'} ${a.task}`,
  );
  const m = meaning.data;
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
          onChange={(e) => put({ kind: e.target.value })}
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
          <Box sx={{ gridColumn: 'span 3', color: 'text.secondary', pt: 0.75 }}>
            {words === '' ? '' : follows.join(', ')}
          </Box>
        )}
        <Button onClick={() => setOpen(!open)} aria-expanded={open} aria-label={`More about ${t.id}`}>
          {open ? 'Less' : 'More'}
        </Button>
      </Box>
      {open && (
        <Box sx={{ display: 'grid', gridTemplateColumns: 'repeat(5, minmax(0, 1fr))', gap: 1, mt: 1, pl: 2 }}>
          <TextField label="Name" value={t.id} onChange={(e) => put({ id: e.target.value })} />
          <Typed
            label="Ends within"
            value={spanWords(t.windowSeconds)}
            read={readSpan}
            hint="such as 6 h"
            onChange={(windowSeconds) => put({ windowSeconds })}
          />
          <Typed
            label="Members spread over"
            value={spanWords(t.spreadSeconds)}
            read={readSpan}
            hint="such as 2 h"
            onChange={(s) => put({ spreadSeconds: s ?? 0 })}
          />
          <Typed
            label="Ended after"
            value={spanWords(t.timeLimitSeconds)}
            read={readSpan}
            hint="such as 12 h"
            onChange={(timeLimitSeconds) => put({ timeLimitSeconds })}
          />
          <Choice
            label="Compression"
            value={t.compression}
            choices={{ off: 'off', light: 'light', strong: 'strong' }}
            onChange={(compression) => put({ compression })}
          />
          <TextField
            label="Attempts"
            type="number"
            value={t.attempts}
            onChange={(e) => put({ attempts: Math.max(1, Number(e.target.value)) })}
          />
          <Typed
            label="Wait before the next"
            value={spanWords(t.backOffSeconds)}
            read={readSpan}
            hint="such as 1 min"
            onChange={(s) => put({ backOffSeconds: s ?? 0 })}
          />
          <Choice
            label="When missed"
            value={t.missed}
            choices={{ catchUpOnce: 'catch up once', skip: 'leave out', report: 'report' }}
            onChange={(missed) => put({ missed })}
          />
          <Choice
            label="When the last still runs"
            value={t.overlap}
            choices={{ skip: 'leave out', wait: 'wait' }}
            onChange={(overlap) => put({ overlap })}
          />
          <TextField label="Key" value={t.key ?? ''} onChange={(e) => put({ key: e.target.value || null })} />
          <TextField
            label="Names of sets"
            value={t.naming}
            onChange={(e) => put({ naming: e.target.value })}
            sx={{ gridColumn: 'span 2' }}
          />
          <Typed
            label="Keep copies"
            value={t.keepCopies ? keepWords(t.keepCopies) : ''}
            read={(x) => (x === '' ? null : (readKeep(x) ?? undefined))}
            hint="as the first"
            onChange={(keepCopies) => put({ keepCopies })}
          />
          <Typed
            label="Lock for"
            value={spanWords(t.lockSeconds)}
            read={readSpan}
            hint="such as 14 d"
            onChange={(lockSeconds) => put({ lockSeconds })}
          />
          <Choice
            label="Follows"
            value={t.after[0]?.task ?? ''}
            choices={{ '': 'nothing', ...Object.fromEntries(others.map((o) => [o, o])) }}
            onChange={(task) => put({ after: task === '' ? [] : [{ task, on: t.after[0]?.on ?? 'success' }] })}
          />
          {t.after.length > 0 && (
            <Choice
              label="After"
              value={t.after[0]!.on}
              choices={{ success: 'success', failure: 'failure', always: 'either end' }}
              onChange={(on) => put({ after: [{ ...t.after[0]!, on }] })}
            />
          )}
          <FormControlLabel
            control={<Checkbox size="small" checked={t.checksum} onChange={(_, checksum) => put({ checksum })} />}
            label="Checksum"
          />
          <FormControlLabel
            control={
              <Checkbox
                size="small"
                checked={t.verifyAfterWriting}
                onChange={(_, v) => put({ verifyAfterWriting: v })}
              />
            }
            label="Read back at once"
          />
          <FormControlLabel
            control={<Checkbox size="small" checked={t.outsideChain} onChange={(_, v) => put({ outsideChain: v })} />}
            label="Outside the chain"
          />
          <Button color="error" onClick={onRemove} sx={{ justifySelf: 'start' }}>
            Remove task
          </Button>
          {databases.length > 0 && (
            <Box sx={{ gridColumn: '1 / -1' }}>
              <AskForRun tasks={[{ plan, task: t.id, kind: t.kind }]} databases={databases} zone={zone} />
            </Box>
          )}
        </Box>
      )}
    </Box>
  );
}

/** A field whose text means something; what cannot be read is marked and not taken over. */
function Typed<T>({
  label,
  value,
  read,
  hint,
  onChange,
}: {
  label: string;
  value: string;
  read: (text: string) => T | null | undefined;
  hint: string;
  onChange: (value: T | null) => void;
}) {
  const [text, setText] = useState<string | null>(null);
  const parsed = text === null ? undefined : read(text);
  const wrong = text !== null && (parsed === undefined || (parsed === null && text !== '')) && text !== '';
  return (
    <TextField
      label={label}
      value={text ?? value}
      placeholder={hint}
      error={wrong}
      helperText={wrong ? hint : undefined}
      onChange={(e) => {
        setText(e.target.value);
        const next = read(e.target.value);
        if (next !== undefined && (next !== null || e.target.value === '')) onChange(next);
      }}
      onBlur={() => !wrong && setText(null)}
    />
  );
}

function Choice({
  label,
  value,
  choices,
  onChange,
}: {
  label: string;
  value: string;
  choices: Record<string, string>;
  onChange: (v: string) => void;
}) {
  return (
    <TextField
      select
      label={label}
      value={value}
      onChange={(e) => onChange(e.target.value)}
      slotProps={{ inputLabel: { shrink: true }, select: { displayEmpty: true } }}
    >
      {Object.entries(choices).map(([k, w]) => (
        <MenuItem key={k} value={k}>
          {w}
        </MenuItem>
      ))}
    </TextField>
  );
}
