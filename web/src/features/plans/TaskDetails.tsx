import Autocomplete from '@mui/material/Autocomplete';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import FormControlLabel from '@mui/material/FormControlLabel';
import TextField from '@mui/material/TextField';
import { Fragment } from 'react';
import { usePlaces } from '../../app/places';
import { localTime } from '../../shared/format';
import { AskForRun } from '../runs/AskForRun';
import { keepWords, makesSet, readKeep, readSpan, spanWords, type TaskDraft } from './draft';
import { Choice, Typed } from './fields';

/** The rest of a task: its care, what it follows, when it does not come, and one run of it. */
export function TaskDetails({
  task: t,
  others,
  zone,
  next,
  onChange: put,
  onRemove,
  onShare,
  databases,
  plan,
}: {
  task: TaskDraft;
  others: string[];
  zone: string;
  /** Undefined while it is not known. */
  next: string[] | undefined;
  onChange: (next: Partial<TaskDraft>) => void;
  onRemove: () => void;
  /** Gives its places and its care to every task that makes sets. */
  onShare: () => void;
  databases: string[];
  plan: string;
}) {
  return (
    <Box sx={{ display: 'grid', gridTemplateColumns: 'repeat(5, minmax(0, 1fr))', gap: 1, mt: 1, pl: 2 }}>
      {t.recurrence && (
        <RecurrenceDetails
          recurrence={t.recurrence}
          zone={zone}
          next={next}
          onChange={(more) => put({ recurrence: { ...t.recurrence, ...more } })}
        />
      )}
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
      {(t.keep.daily > 0 || t.keep.weekly > 0 || t.keep.monthly > 0 || t.keep.yearly > 0) && (
        <Choice
          label="Of each day, week…"
          value={t.keep.lastOfPeriod ? 'last' : 'first'}
          choices={{ first: 'keep the first', last: 'keep the last' }}
          onChange={(which) => put({ keep: { ...t.keep, lastOfPeriod: which === 'last' } })}
        />
      )}
      <Typed
        label="Lock for"
        value={spanWords(t.lockSeconds)}
        read={readSpan}
        hint="such as 14 d"
        onChange={(lockSeconds) => put({ lockSeconds })}
      />
      <Links after={t.after} others={others} onChange={(after) => put({ after })} />
      <FormControlLabel
        control={<Checkbox size="small" checked={t.checksum} onChange={(_, checksum) => put({ checksum })} />}
        label="Checksum"
      />
      <FormControlLabel
        control={
          <Checkbox size="small" checked={t.verifyAfterWriting} onChange={(_, v) => put({ verifyAfterWriting: v })} />
        }
        label="Read back at once"
      />
      <FormControlLabel
        control={<Checkbox size="small" checked={t.outsideChain} onChange={(_, v) => put({ outsideChain: v })} />}
        label="Outside the chain"
      />
      <Box sx={{ gridColumn: 'span 2', display: 'flex', justifyContent: 'flex-end', gap: 1 }}>
        {makesSet(t.kind) && <Button onClick={onShare}>Same care for all sets</Button>}
        <Button color="error" onClick={onRemove}>
          Remove task
        </Button>
      </Box>
      {databases.length > 0 && (
        <Box sx={{ gridColumn: '1 / -1' }}>
          <AskForRun tasks={[{ plan, task: t.id, kind: t.kind }]} databases={databases} zone={zone} />
        </Box>
      )}
    </Box>
  );
}

type Link = TaskDraft['after'][number];

/** What it follows, and after which end of it. */
function Links({ after, others, onChange }: { after: Link[]; others: string[]; onChange: (after: Link[]) => void }) {
  const free = others.filter((o) => after.every((a) => a.task !== o));
  const tasks = (own: string[]) => Object.fromEntries([['', 'nothing'], ...[...own, ...free].map((o) => [o, o])]);
  const put = (i: number, next: Link | null) =>
    onChange(after.flatMap((a, n) => (n !== i ? [a] : next === null ? [] : [next])));
  return (
    <>
      {after.map((a, i) => (
        <Fragment key={a.task}>
          <Choice
            label={i === 0 ? 'Follows' : 'and follows'}
            value={a.task}
            choices={tasks([a.task])}
            onChange={(task) => put(i, task === '' ? null : { ...a, task })}
          />
          <Choice
            label="After its"
            value={a.on}
            choices={{ success: 'success', failure: 'failure', always: 'either end' }}
            onChange={(on) => put(i, { ...a, on })}
          />
        </Fragment>
      ))}
      {free.length > 0 && (
        <Choice
          label={after.length === 0 ? 'Follows' : 'and follows'}
          value=""
          choices={tasks([])}
          onChange={(task) => task !== '' && onChange([...after, { task, on: 'success' }])}
        />
      )}
    </>
  );
}

const day = /^\d{4}-\d\d-\d\d$/;

/** Where its local times belong, from when it holds, when it does not come; and the next runs. */
function RecurrenceDetails({
  recurrence: r,
  zone,
  next,
  onChange,
}: {
  recurrence: NonNullable<TaskDraft['recurrence']>;
  zone: string;
  /** Undefined while it is not known. */
  next: string[] | undefined;
  onChange: (more: Partial<NonNullable<TaskDraft['recurrence']>>) => void;
}) {
  const zones = usePlaces().data?.timeZones ?? [];
  const except = [...(r.exceptDays ?? []), ...(r.exceptTimes ?? [])];
  return (
    <>
      <Autocomplete
        freeSolo
        autoSelect
        disableClearable
        options={[...new Set([...zones, 'UTC'])]}
        value={r.zone ?? zone}
        onChange={(_, z) => onChange({ zone: z })}
        renderInput={(p) => <TextField {...p} label="Time zone" />}
      />
      <Typed
        label="In force from"
        value={r.start?.slice(0, 10) ?? ''}
        read={(text) => (day.test(text) ? text : undefined)}
        hint="such as 2026-12-01"
        onChange={(date) => date && onChange({ start: date + (r.words ? '' : (r.start?.slice(10) ?? '')) })}
      />
      <Autocomplete
        multiple
        freeSolo
        autoSelect
        options={[]}
        value={except}
        onChange={(_, all) =>
          onChange({ exceptDays: all.filter((d) => day.test(d)), exceptTimes: all.filter((d) => !day.test(d)) })
        }
        sx={{ gridColumn: 'span 3' }}
        renderInput={(p) => (
          <TextField {...p} label="But not on" placeholder={except.length === 0 ? 'such as 2026-12-24' : ''} />
        )}
      />
      <Box sx={{ gridColumn: '1 / -1', fontSize: 12.5, color: 'text.secondary' }} data-testid="next-runs">
        {next === undefined
          ? ''
          : next.length === 0
            ? 'It is never due again.'
            : `Next: ${next.map((n) => localTime(n, zone, false)).join(' · ')}`}
      </Box>
    </>
  );
}
