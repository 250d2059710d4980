import Box from '@mui/material/Box';
import TextField from '@mui/material/TextField';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import { Link, useLocation } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useAddress } from '../../app/address';
import { useZone } from '../../app/places';
import { withPremise } from '../../app/premise';
import { Failure } from '../../shared/Failure';
import { count, localDay } from '../../shared/format';
import { Side } from '../../shared/Side';
import { SideSection } from '../../shared/SideSection';
import { Worksheet } from '../../shared/Worksheet';
import { DatedDrills } from './DatedDrills';
import { lossWord } from './words';

type Programme = Schemas['ProgrammeView'];
type Due = Schemas['DueRow'];

/** What must be proved by when: a calendar of the coming weeks with the load of each day, and what the proofs there are show of all databases. */
export default function DrillsPage() {
  const [params, put] = useAddress();
  const number = (key: string, usual: number) => Number(params.get(key) ?? usual) || usual;
  const asked = { days: 28, aDay: number('aDay', 6), inSite: number('inSite', 4), onHost: number('onHost', 2) };
  const text = { confidence: params.get('confidence') ?? '0.95', share: params.get('share') ?? '0.1' };
  const day = params.get('day');
  const { search } = useLocation();
  const zone = useZone();
  const programme = useQuery({
    queryKey: ['drills', 'due', asked, text],
    placeholderData: keepPreviousData,
    refetchInterval: 30_000,
    retry: false,
    queryFn: () => got(api.GET('/api/drills/due', { params: { query: { ...asked, ...text } } })),
  });
  const p = programme.data;
  if (!p && programme.error) return <Failure error={programme.error} again={() => void programme.refetch()} />;
  if (!p) return <Box sx={{ p: 3, color: 'text.secondary' }}>Opening…</Box>;
  const shown = day === null ? p.due : p.due.filter((d) => d.day === day);
  return (
    <Worksheet side={330}>
      <Box sx={{ p: 2, minWidth: 0 }}>
        <Box sx={{ display: 'flex', alignItems: 'baseline', gap: 2, flexWrap: 'wrap' }}>
          <h1 style={{ fontSize: 20, margin: 0 }}>What must be proved</h1>
          <Link to={withPremise('/drills/new', search)}>Plan a drill</Link>
          <Link to={withPremise('/drills/joint', search)}>Of several at once</Link>
          <Link to={withPremise('/drills/site', search)}>If a site is lost</Link>
          <Link to={withPremise('/runs', search, { kind: 'drill,joint-drill' })}>Drills held</Link>
          <a
            href={`/api/drills/due.ics?${new URLSearchParams(Object.entries(asked).map(([k, v]) => [k, String(v)])).toString()}`}
          >
            As a calendar
          </a>
        </Box>
        <DatedDrills />
        <Shows shown={p.shown} overdue={p.due.filter((d) => d.overdue).length} of={p.due.length} />
        <Calendar programme={p} chosen={day} choose={(d) => put({ day: d === day ? null : d }, true)} />
        <Box component="h2" sx={{ fontSize: 15, mt: 2, mb: 0.5 }}>
          {day === null ? 'Due, the first first' : `Held on ${day}`}
        </Box>
        <DueTable rows={shown} zone={zone} search={search} />
      </Box>
      <Side label="Capacities and the draw">
        <SideSection title="How many tests at most">
          <Box sx={{ display: 'flex', gap: 1, mt: 1, mb: 1 }}>
            <Small label="a day in all" value={String(asked.aDay)} set={(v) => put({ aDay: v }, true)} />
            <Small label="in a site" value={String(asked.inSite)} set={(v) => put({ inSite: v }, true)} />
            <Small label="on a host" value={String(asked.onHost)} set={(v) => put({ onHost: v }, true)} />
          </Box>
          <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
            Days on which a pause holds at noon take none. If any calendar keeps all due days, this one does.
          </Box>
        </SideSection>
        {p.bounds.length > 0 && (
          <SideSection title="Why not all are held in time">
            {p.bounds.map((b) => (
              <Box key={b.what} sx={{ mb: 0.5 }}>
                <b>{b.what}</b>: full on {count(b.days)} {b.days === 1 ? 'day' : 'days'}, {count(b.most)} at most.{' '}
                {b.wouldNeed === null ? 'More of it alone would not do.' : `${count(b.wouldNeed)} would keep all.`}
              </Box>
            ))}
          </SideSection>
        )}
        <SideSection title="How many must be tested">
          <Box sx={{ display: 'flex', gap: 1, mt: 1, mb: 1 }}>
            <Small label="confidence" value={text.confidence} set={(v) => put({ confidence: v }, true)} />
            <Small label="share that may fail" value={text.share} set={(v) => put({ share: v }, true)} wide />
          </Box>
          {programme.error ? (
            <Box role="alert" sx={{ color: 'error.main' }}>
              {programme.error.message}
            </Box>
          ) : (
            <Box>{neededSentence(p.shown)}</Box>
          )}
        </SideSection>
        <SideSection title={`Drawn by seed ${p.draw.seed}`}>
          <Box sx={{ color: 'text.secondary', fontSize: 12, mb: 0.5 }}>
            The seed is the month: anybody can draw them again, nobody picks.
          </Box>
          {p.draw.drawn.map((d) => (
            <Box
              key={d.database}
              sx={{ display: 'flex', justifyContent: 'space-between', alignItems: 'center', gap: 1, minHeight: 24 }}
            >
              <Link to={withPremise(`/databases/${d.database}`, search)}>{d.name}</Link>
              <Box
                component="span"
                sx={{
                  color: d.passed === null ? 'text.secondary' : d.passed ? 'primary.main' : 'error.main',
                  whiteSpace: 'nowrap',
                }}
              >
                {d.passed === null ? 'not tested' : d.passed ? 'passed' : 'did not pass'}
              </Box>
            </Box>
          ))}
        </SideSection>
      </Side>
    </Worksheet>
  );
}

/** What the proofs show, in one sentence. */
export function shownSentence(s: Schemas['ShownView']): string {
  const percent = `${Number(s.confidence) * 100} %`;
  return s.tested === 0
    ? 'No database was tested in time: nothing is shown.'
    : `With ${percent} confidence at least ${count(s.population - s.atMostFailing)} of ${count(s.population)} would come back.`;
}

/** How many more tests would raise it. */
export function neededSentence(s: Schemas['ShownView']): string {
  const percent = `${Number(s.confidence) * 100} %`;
  if (s.needed === 0) return 'That needs no test: all may fail.';
  const more = s.needed - s.tested;
  return `${count(s.needed)} of ${count(s.population)}, all passed, would show with ${percent} confidence that at most ${Number(s.share) * 100} % fail${
    s.failed > 0
      ? `; ${count(s.failed)} did not pass, so that many more would be needed`
      : more > 0
        ? `: ${count(more)} more than now`
        : ': so many were tested'
  }.`;
}

function Shows({ shown, overdue, of }: { shown: Schemas['ShownView']; overdue: number; of: number }) {
  return (
    <Box
      sx={{
        my: 1.5,
        p: 1.5,
        borderLeft: 4,
        borderColor: shown.failed > 0 || overdue > 0 ? 'warning.main' : 'primary.main',
        bgcolor: 'background.paper',
      }}
    >
      <Box sx={{ fontSize: 19, fontWeight: 620, lineHeight: 1.3 }} data-testid="shown">
        {shownSentence(shown)}
      </Box>
      <Box sx={{ color: 'text.secondary' }}>
        {count(shown.tested)} tested within the days a proof counts, {count(shown.failed)} of them did not pass; taken
        as if drawn at random.{' '}
        <Box component="b" sx={{ color: overdue > 0 ? 'verdict.atRisk' : 'text.primary' }}>
          {count(overdue)} of {count(of)} proofs are overdue.
        </Box>
      </Box>
    </Box>
  );
}

/** Days in rows of weeks; each with what is to be held as marks, against what a day takes. */
function Calendar({
  programme: p,
  chosen,
  choose,
}: {
  programme: Programme;
  chosen: string | null;
  choose: (day: string) => void;
}) {
  const days = useMemo(() => {
    const first = Date.parse(`${p.from}T00:00:00Z`);
    const by = new Map<string, Due[]>();
    for (const d of p.due) if (d.day !== null) by.set(d.day, [...(by.get(d.day) ?? []), d]);
    return Array.from({ length: p.days }, (_, i) => {
      const date = new Date(first + i * 86_400_000);
      const key = date.toISOString().slice(0, 10);
      return { key, date, due: by.get(key) ?? [] };
    });
  }, [p]);
  const weekday = new Intl.DateTimeFormat('en-GB', { weekday: 'short', timeZone: 'UTC' });
  const short = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', timeZone: 'UTC' });
  return (
    <Box component="section" aria-label="Calendar of proofs">
      <Box sx={{ display: 'grid', gridTemplateColumns: 'repeat(7, minmax(0, 1fr))', gap: '3px' }}>
        {days.map((d, i) => (
          <Box
            key={d.key}
            component="button"
            type="button"
            aria-pressed={chosen === d.key}
            aria-label={`${short.format(d.date)}: ${d.due.length} of ${p.aDay} tests`}
            onClick={() => choose(d.key)}
            sx={{
              font: 'inherit',
              color: 'inherit',
              textAlign: 'left',
              border: 1,
              borderColor: chosen === d.key ? 'primary.main' : 'divider',
              bgcolor: 'background.paper',
              p: 0.75,
              minHeight: 58,
              cursor: 'pointer',
              display: 'flex',
              flexDirection: 'column',
              gap: 0.5,
            }}
          >
            <Box sx={{ display: 'flex', justifyContent: 'space-between', fontSize: 11.5 }}>
              <span>
                {weekday.format(d.date)} <b>{i === 0 ? 'today' : short.format(d.date)}</b>
              </span>
              <Box component="span" sx={{ color: d.due.length >= p.aDay ? 'verdict.atRisk' : 'text.secondary' }}>
                {d.due.length > 0 ? `${d.due.length}/${p.aDay}` : ''}
              </Box>
            </Box>
            <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: '2px' }}>
              {d.due.slice(0, 24).map((x) => (
                <Box
                  key={`${x.database} ${x.loss}`}
                  title={`${x.name}: ${lossWord[x.loss]}`}
                  sx={{
                    width: 9,
                    height: 9,
                    bgcolor: x.overdue ? 'verdict.breached' : 'primary.main',
                    borderRadius: x.loss === 'none' ? '50%' : 0,
                  }}
                />
              ))}
            </Box>
          </Box>
        ))}
      </Box>
      <Box sx={{ color: 'text.secondary', fontSize: 12, mt: 0.5 }}>
        A mark is a proof to be held: red where none counts now, green where one runs out; round against a bad change,
        square against a loss.
      </Box>
    </Box>
  );
}

function DueTable({ rows, zone, search }: { rows: Due[]; zone: string; search: string }) {
  const [all, setAll] = useState(false);
  const most = 40;
  const seen = all ? rows : rows.slice(0, most);
  return (
    <>
      <Box sx={{ overflowX: 'auto' }}>
        <Box
          component="table"
          sx={{
            width: '100%',
            borderCollapse: 'collapse',
            '& td, & th': {
              textAlign: 'left',
              py: 0.5,
              pr: 1.5,
              borderBottom: 1,
              borderColor: 'divider',
              verticalAlign: 'top',
            },
            '& th': { fontWeight: 400, fontSize: 12, color: 'text.secondary' },
          }}
        >
          <thead>
            <tr>
              <th>Database</th>
              <th>Against</th>
              <th>Due</th>
              <th>Proved last</th>
              <th>To be held</th>
              <th>On</th>
              <th>To do</th>
            </tr>
          </thead>
          <tbody>
            {seen.map((d) => (
              <tr key={`${d.database} ${d.loss}`}>
                <td>
                  <Link to={withPremise(`/databases/${d.database}`, search)}>{d.name}</Link>
                </td>
                <td>{lossWord[d.loss]}</td>
                <Box
                  component="td"
                  sx={{ color: d.overdue ? 'verdict.breached' : 'text.primary', fontWeight: d.overdue ? 620 : 400 }}
                >
                  {d.overdue ? 'overdue' : localDay(d.dueAt, zone)}
                </Box>
                <td>
                  {d.provenAt === null
                    ? 'never'
                    : `${localDay(d.provenAt, zone)}, ${d.byTakingOver ? 'by taking over' : 'by a restore'}`}
                  {d.why !== null && d.provenAt !== null && (
                    <Box sx={{ fontSize: 12, color: 'text.secondary' }}>{d.why}</Box>
                  )}
                </td>
                <td>{d.day ?? (d.overdue ? 'no day has room' : 'later')}</td>
                <td>{d.host}</td>
                <td>
                  <Link
                    to={
                      d.byReplica === null
                        ? withPremise(`/recover/${d.database}`, search)
                        : withPremise('/drills/new', search, {
                            database: d.database,
                            replica: d.byReplica,
                            kind: d.loss === 'none' || d.loss === 'hostile' ? 'switchover' : 'forced',
                            taken: d.loss,
                          })
                    }
                  >
                    Hold it
                  </Link>
                </td>
              </tr>
            ))}
          </tbody>
        </Box>
      </Box>
      {rows.length === 0 && <Box sx={{ color: 'text.secondary', py: 1 }}>Nothing is due.</Box>}
      {rows.length > seen.length && (
        <Box
          component="button"
          type="button"
          onClick={() => setAll(true)}
          sx={{
            mt: 1,
            font: 'inherit',
            background: 'none',
            border: 0,
            p: 0,
            color: 'primary.main',
            cursor: 'pointer',
            textDecoration: 'underline',
          }}
        >
          All {count(rows.length)}
        </Box>
      )}
    </>
  );
}

/** A figure that is taken over when one leaves it. */
function Small({
  label,
  value,
  set,
  wide,
}: {
  label: string;
  value: string;
  set: (value: string) => void;
  wide?: boolean;
}) {
  const [text, setText] = useState(value);
  return (
    <TextField
      label={label}
      value={text}
      onChange={(e) => setText(e.target.value)}
      onBlur={() => set(text)}
      onKeyDown={(e) => e.key === 'Enter' && set(text)}
      sx={{ width: wide ? 150 : 96 }}
    />
  );
}
