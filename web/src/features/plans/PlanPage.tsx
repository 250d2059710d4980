import Alert from '@mui/material/Alert';
import Autocomplete from '@mui/material/Autocomplete';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useMemo, useRef, useState } from 'react';
import { Link, useLocation, useNavigate, useParams, useSearchParams } from 'react-router';
import { api, ApiError, got, type Schemas } from '../../api/client';
import { useZone } from '../../app/places';
import { withPremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { Failure } from '../../shared/Failure';
import { byName, count, localTime } from '../../shared/format';
import { Worksheet } from '../../shared/Worksheet';
import { ConsequenceColumn } from './ConsequenceColumn';
import { Differences } from './Differences';
import { kindWord, nextTask, withMembers, withSettingsOf, type PlanDraft } from './draft';
import { RetentionPanel } from './RetentionPanel';
import { TaskRow } from './TaskRow';
import { TellPanel } from './TellPanel';

/** The worksheet of one plan: what one decides on the left, what it comes to on the right, while one types. */
export default function PlanPage() {
  const { id = '' } = useParams();
  const [params] = useSearchParams();
  const isNew = id === 'new';
  const copyOf = params.get('copy');
  const from = isNew ? copyOf : id;
  const saved = useQuery({
    queryKey: ['plans', 'one', from],
    enabled: from !== null,
    queryFn: () => got(api.GET('/api/plans/{plan}', { params: { path: { plan: from! } } })),
  });
  const ready = useQuery({
    queryKey: ['ready-plans'],
    enabled: isNew && !copyOf,
    staleTime: Infinity,
    queryFn: () => got(api.GET('/api/ready-plans')),
  });
  // A plan that is gone since it was opened stays on the page until whoever has it open goes: they may be the one who removed it.
  if (saved.error && !saved.data) return <Failure error={saved.error} />;
  const document = from ? saved.data?.plan : ready.data?.[Number(params.get('ready') ?? 0)];
  if (!document) return <Box sx={{ p: 3, color: 'text.secondary' }}>Opening…</Box>;
  const plan = document as unknown as PlanDraft;
  return (
    <>
      {saved.error && <Failure error={saved.error} />}
      <EditedPlan
        key={`${id} ${params.get('ready')} ${copyOf}`}
        initial={
          isNew
            ? { ...plan, id: fresh(plan.id), name: copyOf ? `Copy of ${plan.name}` : plan.name, members: nobody }
            : plan
        }
        version={isNew ? 0 : (saved.data?.version ?? 0)}
        versions={isNew ? [] : (saved.data?.versions ?? [])}
        added={params.get('add')?.split(',') ?? []}
        isNew={isNew}
      />
    </>
  );
}

const nobody = { databases: [], services: [], tags: [], engines: [], objectives: [], except: [] };
const fresh = (id: string) => `${id}-${Date.now().toString(36).slice(-4)}`;

/** A fault with its tasks named as people name them: "Log: …" rather than "Tasks[2].recurrence.words: …". */
function named(message: string, plan: PlanDraft): string {
  return message.replace(/\btasks\[(\d+)\](?:\.[\w.[\]]+)?/gi, (whole, place: string) => {
    const task = plan.tasks[Number(place)];
    if (!task) return whole;
    const word = kindWord[task.kind] ?? task.kind;
    const alike = plan.tasks.filter((t) => t.kind === task.kind).length > 1;
    return `${word[0]!.toUpperCase()}${word.slice(1)}${alike ? ` (${task.id})` : ''}`;
  });
}

function EditedPlan({
  initial: newest,
  version: newestVersion,
  versions,
  added,
  isNew,
}: {
  initial: PlanDraft;
  version: number;
  versions: Schemas['PlanVersionView'][];
  /** Databases to put under it, chosen elsewhere; nothing is saved before the consequences are seen. */
  added: string[];
  isNew: boolean;
}) {
  // What the draft was made from. What somebody else saves meanwhile is shown, and never takes the place of a draft by itself.
  const [{ initial, version }, setBase] = useState({ initial: newest, version: newestVersion });
  const [plan, setPlan] = useState(() => withMembers(newest, added));
  const [own, setOwn] = useState<number | null>(null);
  const [generation, setGeneration] = useState(0);
  const [asked, setAsked] = useState(plan);
  const [removing, setRemoving] = useState(false);
  const zone = useZone();
  const may = useMay('plan');
  const mayAsk = useMay('operate');
  const { search } = useLocation();
  const navigate = useNavigate();
  const queries = useQueryClient();
  useEffect(() => {
    const timer = setTimeout(() => setAsked(plan), 200);
    return () => clearTimeout(timer);
  }, [plan]);
  const body = asked as unknown as Record<string, never>;
  const consequences = useQuery({
    queryKey: ['consequences', asked],
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () => got(api.POST('/api/consequences', { body })),
  });
  // Words half typed are no plan: until they are, the figures stay those of the plan before.
  const [figures, setFigures] = useState(consequences.data);
  if (consequences.data && consequences.data !== figures) setFigures(consequences.data);

  // Who has gone elsewhere while it was saved stays there.
  const isOpen = useRef(true);
  useEffect(() => {
    isOpen.current = true;
    return () => {
      isOpen.current = false;
    };
  }, []);
  const leaveFor = async (path: string, replace: boolean) => {
    if (isOpen.current) await navigate(withPremise(path, search), { replace });
    await queries.invalidateQueries({ queryKey: ['plans'] });
  };
  const save = useMutation({
    mutationFn: () =>
      got(
        api.PUT('/api/plans/{plan}', {
          params: { path: { plan: plan.id }, query: { basedOn: version } },
          body: plan as unknown as Record<string, never>,
        }),
      ),
    onSuccess: (saved) => {
      if (saved.waitsFor) return leaveFor(`/runs/${saved.waitsFor}`, false);
      setOwn(saved.version!);
      return leaveFor(`/plans/${plan.id}`, true);
    },
  });
  const remove = useMutation({
    mutationFn: () =>
      got(api.DELETE('/api/plans/{plan}', { params: { path: { plan: plan.id }, query: { basedOn: version } } })),
    onSuccess: (removed) => leaveFor(removed.waitsFor ? `/runs/${removed.waitsFor}` : '/plans', false),
  });
  const fault = consequences.error instanceof ApiError && consequences.error.status === 400 ? consequences.error : null;
  const change = JSON.stringify(plan) !== JSON.stringify(initial);
  const start = (from: PlanDraft) => {
    setPlan(from);
    // Rows begin anew: what was being typed in them is of the draft before.
    setGeneration((n) => n + 1);
  };
  const takeOver = () => {
    setBase({ initial: newest, version: newestVersion });
    start(newest);
  };
  const isNewer = newestVersion > version;
  if (isNewer && (!change || newestVersion === own)) takeOver();
  const meanwhile = isNewer && change && newestVersion !== own ? versions[0] : undefined;
  const put = (next: Partial<PlanDraft>) => setPlan((p) => ({ ...p, ...next }));
  return (
    <Worksheet side={380}>
      <Box sx={{ p: 2, minWidth: 0 }}>
        <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1.5 }}>
          <h1 style={{ position: 'absolute', clip: 'rect(0 0 0 0)' }}>{plan.name}</h1>
          <TextField
            value={plan.name}
            onChange={(e) => put({ name: e.target.value })}
            slotProps={{ htmlInput: { 'aria-label': 'Name of the plan', style: { fontSize: 18, fontWeight: 650 } } }}
            sx={{ flex: '0 1 300px' }}
          />
          <Box sx={{ color: 'text.secondary', whiteSpace: 'nowrap' }}>
            {isNew ? 'not saved yet' : `version ${version}${change ? ', changed' : ''}`}
          </Box>
          <Box sx={{ flex: 1 }} />
          {!isNew && <CompareWith plan={plan.id} />}
          {may && !isNew && (
            <>
              <Button onClick={() => void navigate(withPremise('/plans/new', search, { copy: plan.id }))}>Copy</Button>
              <Button color="error" onClick={() => setRemoving(!removing)} aria-expanded={removing}>
                Remove…
              </Button>
            </>
          )}
          {change && !isNew && (
            <Button onClick={() => start(initial)} sx={{ whiteSpace: 'nowrap' }}>
              Take back
            </Button>
          )}
          <Button
            variant="contained"
            disabled={!may || save.isPending || fault !== null || meanwhile !== undefined || (!change && !isNew)}
            onClick={() => save.mutate()}
          >
            {may ? 'Save' : 'Only planners save'}
          </Button>
        </Box>
        {removing && (
          <Alert severity="warning" variant="outlined" icon={false} sx={{ mb: 1.5 }}>
            Its tasks run no more, and unless another plan catches them nothing backs up{' '}
            <b>{figures?.caught.length ? figures.caught.join(', ') : 'its databases'}</b>. The sets that are there stay,
            and what it was stays in the ledger.
            <Box sx={{ display: 'flex', gap: 1, mt: 0.5 }}>
              <Button color="error" variant="outlined" onClick={() => remove.mutate()} disabled={remove.isPending}>
                Remove it
              </Button>
              <Button color="inherit" onClick={() => setRemoving(false)}>
                Keep it
              </Button>
            </Box>
          </Alert>
        )}
        {meanwhile && (
          <Alert severity="warning" variant="outlined" icon={false} sx={{ mb: 1.5 }} data-testid="saved-meanwhile">
            <b>{meanwhile.who}</b> saved version {meanwhile.number} meanwhile; your draft is still here, made from
            version {version}.
            <Differences all={meanwhile.changes} />
            <Box sx={{ display: 'flex', gap: 1, mt: 0.5 }}>
              <Button variant="outlined" onClick={() => setBase({ initial: newest, version: newestVersion })}>
                Keep my draft, to save on top of it
              </Button>
              <Button color="inherit" onClick={takeOver}>
                Take {meanwhile.who}’s, drop mine
              </Button>
            </Box>
          </Alert>
        )}
        {save.error && !meanwhile && <Failure error={save.error} />}
        {remove.error && <Failure error={remove.error} />}
        {fault && (
          <Alert severity="warning" variant="outlined" sx={{ mb: 1.5 }} data-testid="plan-fault">
            {named(fault.message, plan)}. The figures on the right are of the plan before.
          </Alert>
        )}
        <Members plan={plan} onChange={(members) => put({ members })} caught={figures} />
        <Box component="section" aria-label="Tasks" sx={{ mt: 2 }}>
          <Box sx={{ display: 'flex', alignItems: 'baseline', gap: 2, mb: 0.5 }}>
            <h2 style={{ fontSize: 15, margin: 0 }}>Tasks</h2>
            <Box sx={{ color: 'text.secondary', fontSize: 12.5 }}>
              When: “every 15 minutes”, “Saturdays 23:30”, “last Friday of the month 22:00”
            </Box>
          </Box>
          {plan.tasks.map((t, i) => (
            <TaskRow
              key={`${generation} ${i}`}
              task={t}
              others={plan.tasks.filter((o) => o !== t).map((o) => o.id)}
              zone={zone}
              said={figures?.words[t.id]}
              onChange={(next) => put({ tasks: plan.tasks.map((o, n) => (n === i ? next : o)) })}
              onShare={() => setPlan((p) => withSettingsOf(p, t))}
              onRemove={() => put({ tasks: plan.tasks.filter((_, n) => n !== i) })}
              databases={mayAsk && !change && !isNew ? (figures?.caught ?? []) : []}
              plan={plan.id}
            />
          ))}
          <Button onClick={() => put({ tasks: [...plan.tasks, nextTask(plan, zone)] })}>Add a task</Button>
        </Box>
        <TellPanel tell={plan.tell} onChange={(tell) => put({ tell })} />
        {figures && plan.tasks.some((t) => t.kind === 'cleanUp') && (
          <RetentionPanel plan={asked} databases={figures.caught} zone={zone} />
        )}
        {versions.length > 1 && <Versions plan={plan.id} versions={versions} zone={zone} />}
      </Box>
      <ConsequenceColumn
        consequences={figures}
        error={fault ? null : consequences.error}
        busy={consequences.isFetching}
        plan={asked}
        zone={zone}
      />
    </Worksheet>
  );
}

/** Who changed what and when; any version beside the newest. */
function Versions({ plan, versions, zone }: { plan: string; versions: Schemas['PlanVersionView'][]; zone: string }) {
  const { search } = useLocation();
  const newest = versions[0]!.number;
  return (
    <Box component="section" aria-label="Versions" sx={{ mt: 2 }}>
      <h2 style={{ fontSize: 15, margin: '0 0 4px' }}>Versions</h2>
      {versions.map((v) => (
        <Box key={v.number} component="details" sx={{ borderTop: 1, borderColor: 'divider', py: 0.5 }}>
          <Box component="summary" sx={{ cursor: 'pointer' }}>
            <b>{v.number}</b> {localTime(v.at, zone, false)} by {v.who}
            {v.removed && ', removed'}
            <Box component="span" sx={{ color: 'text.secondary' }}>
              {v.changes.length > 0 && `, ${v.changes.length} changed`}
            </Box>
          </Box>
          <Box sx={{ pl: 2, py: 0.5 }}>
            <Differences all={v.changes} />
            {v.number !== newest && (
              <Link to={withPremise('/plans/compare', search, { left: `${plan}@${v.number}`, right: plan })}>
                Beside the newest
              </Link>
            )}
          </Box>
        </Box>
      ))}
    </Box>
  );
}

/** Puts another plan beside this one. */
function CompareWith({ plan }: { plan: string }) {
  const { search } = useLocation();
  const navigate = useNavigate();
  const plans = useQuery({ queryKey: ['plans'], queryFn: () => got(api.GET('/api/plans')) });
  return (
    <TextField
      select
      label="Compare with"
      value=""
      onChange={(e) => void navigate(withPremise('/plans/compare', search, { left: plan, right: e.target.value }))}
      sx={{ width: 150 }}
    >
      {(plans.data?.plans ?? [])
        .filter((p) => p.id !== plan)
        .map((p) => (
          <MenuItem key={p.id} value={p.id}>
            {p.name}
          </MenuItem>
        ))}
    </TextField>
  );
}

function Members({
  plan,
  onChange,
  caught,
}: {
  plan: PlanDraft;
  onChange: (m: PlanDraft['members']) => void;
  caught: Schemas['Consequences'] | undefined;
}) {
  const choices = useQuery({
    queryKey: ['fleet', 'choices'],
    staleTime: 60_000,
    queryFn: () => got(api.GET('/api/choices')),
  });
  const c = choices.data;
  const databases = useMemo(() => (c?.databases ?? []).toSorted(byName), [c]);
  const fields: [keyof PlanDraft['members'], string, string[]][] = [
    ['services', 'Service', c?.services ?? []],
    ['tags', 'Tag', c?.tags ?? []],
    ['engines', 'Engine family', c?.engines ?? []],
    ['objectives', 'Objective', c?.objectives ?? []],
    ['databases', 'By name', databases],
    ['except', 'Left out', databases],
  ];
  return (
    <Box component="section" aria-label="Databases">
      <Box sx={{ display: 'flex', alignItems: 'baseline', gap: 2, mb: 0.75 }}>
        <h2 style={{ fontSize: 15, margin: 0 }}>Databases</h2>
        <Box sx={{ color: 'text.secondary', fontSize: 12.5 }} data-testid="caught">
          {caught
            ? `catches ${count(caught.members)}${caught.members > 0 ? `: ${caught.caught.slice(0, 4).join(', ')}${caught.members > 4 ? '…' : ''}` : ''}`
            : ''}
          {caught && caught.conflicting.length > 0 && ` · ${caught.conflicting.length} also in another plan`}
          {caught && caught.newlyLeftOut.length > 0 && ` · ${caught.newlyLeftOut.length} would be in no plan`}
        </Box>
      </Box>
      <Box sx={{ display: 'grid', gridTemplateColumns: 'repeat(3, minmax(0, 1fr))', gap: 1 }}>
        {fields.map(([key, label, options]) => (
          <Autocomplete
            key={key}
            multiple
            size="small"
            limitTags={2}
            options={options}
            value={plan.members[key]}
            onChange={(_, value) => onChange({ ...plan.members, [key]: value })}
            renderInput={(p) => <TextField {...p} label={label} />}
          />
        ))}
      </Box>
    </Box>
  );
}
