import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import { keepFile, type Schemas } from '../../api/client';
import { duration, localTime, readLocal } from '../../shared/format';
import { Side } from '../../shared/Side';
import { SideSection } from '../../shared/SideSection';
import { LocalTimeField } from '../../shared/LocalTimeField';
import { isAsked, SettingsChoice, type SettingsWhen } from '../../shared/SettingsChoice';

const glyph: Record<Schemas['PrecheckOutcome'], [string, string]> = {
  passed: ['M2 7l3.5 4L12 3', 'primary.main'],
  warned: ['M7 2v6M7 10.5v1.5', 'warning.main'],
  failed: ['M3 3l8 8M11 3l-8 8', 'error.main'],
};

/** Beside the database, the same thrown away again, or in its place. */
export type How = 'aside' | 'rehearse' | 'inPlace';

/** What follows from what one decided, and what will happen before anything does. */
export function Consequence(props: {
  ways?: Schemas['WaysView'];
  zone: string;
  instance: string;
  onInstance: (v: string) => void;
  query: string;
  /** Minutes the checks may take, as typed; empty for as long as they need. */
  checks: string;
  onChecks: (minutes: string) => void;
  onQuery: (v: string) => void;
  ends: string;
  onEnds: (v: string) => void;
  settings: SettingsWhen;
  onSettings: (when: SettingsWhen) => void;
  may: boolean;
  busy: boolean;
  error: Error | null;
  onStart: (how: How) => void;
}) {
  const { ways: w, zone } = props;
  const wrongChecks = props.checks.trim() !== '' && !(Number(props.checks.replace(',', '.')) > 0);
  const wrongEnd = props.ends.trim() !== '' && readLocal(props.ends, zone) === null;
  const failed = w?.prechecks.some((p) => p.outcome === 'failed') ?? false;
  return (
    <Side label="Consequence">
      <Box component="h2" sx={{ m: 0, mb: 1, fontSize: 15 }}>
        Before you act
      </Box>
      {!w && <Box sx={{ color: 'text.secondary' }}>Choose an instant.</Box>}
      {w?.best && (
        <Box sx={{ mb: 1.5 }}>
          A new instance on <b>{w.best.host}</b> is made; {w.name} itself is not touched. It should be ready for a look
          in about <b>{duration(w.best.seconds + w.checkSeconds)}</b>, and back in service in{' '}
          <b>{duration(w.best.serviceSeconds)}</b>
          {w.rtoSeconds !== null && `, ${duration(w.rtoSeconds)} is allowed`}. It holds everything up to{' '}
          <b>{localTime(w.best.reaches, zone)}</b>
          {w.best.lostSeconds > 0
            ? `; ${duration(w.best.lostSeconds)} before the instant wanted would be lost`
            : ': nothing before the instant wanted is lost'}
          . Nobody is let in until somebody has looked and released it.
        </Box>
      )}
      {(w?.prechecks.length ?? 0) > 0 && (
        <SideSection level="h3" title="Prechecks">
          {w!.prechecks.map((p) => (
            <Box key={p.name} sx={{ display: 'flex', gap: 1, py: 0.2 }}>
              <Box
                component="svg"
                width={14}
                height={14}
                aria-hidden
                sx={{ flex: 'none', mt: 0.25, color: glyph[p.outcome][1] }}
              >
                <path d={glyph[p.outcome][0]} stroke="currentColor" strokeWidth="2" fill="none" />
              </Box>
              <Box sx={{ fontSize: 12, lineHeight: 1.35 }}>
                <b>{p.name}</b>
                {p.outcome !== 'passed' && ` ${p.outcome}`}{' '}
                <Box component="span" sx={{ color: 'text.secondary', overflowWrap: 'anywhere' }}>
                  {p.detail}
                </Box>
              </Box>
            </Box>
          ))}
        </SideSection>
      )}
      {w?.best && (
        <Box sx={{ display: 'flex', flexDirection: 'column', gap: 1.25, mb: 1.5 }}>
          <TextField
            label="Name of the new instance"
            placeholder={`${w.database}-restored`}
            value={props.instance}
            onChange={(e) => props.onInstance(e.target.value)}
            slotProps={{ inputLabel: { shrink: true } }}
          />
          <TextField
            label="A query of your own to check"
            value={props.query}
            onChange={(e) => props.onQuery(e.target.value)}
            helperText={w?.queryHelp}
            slotProps={{ inputLabel: { shrink: true } }}
          />
          <TextField
            label="Checks may take, minutes"
            placeholder="as long as they need"
            value={props.checks}
            onChange={(e) => props.onChecks(e.target.value)}
            error={wrongChecks}
            helperText={
              wrongChecks ? 'a number above nothing' : props.checks ? 'what there is no time for is said' : undefined
            }
            slotProps={{ inputLabel: { shrink: true }, htmlInput: { inputMode: 'decimal' } }}
          />
          <LocalTimeField
            label="Ends"
            zone={zone}
            empty="no end"
            value={props.ends}
            onChange={props.onEnds}
            {...(props.ends && { help: 'its owner is told; people remove it' })}
          />
          <SettingsChoice settings={w.settings} when={props.settings} zone={zone} onWhen={props.onSettings} />
          {props.error && (
            <Alert severity="error" variant="outlined">
              {props.error.message}
            </Alert>
          )}
          <Button
            variant="contained"
            size="large"
            disabled={
              !props.may || props.busy || failed || wrongEnd || wrongChecks || isAsked(w.settings, props.settings)
            }
            onClick={() => props.onStart('aside')}
          >
            Restore to a new instance
          </Button>
          <Button
            disabled={!props.may || props.busy || failed || wrongChecks || isAsked(w.settings, props.settings)}
            onClick={() => props.onStart('rehearse')}
            title="Restored aside, checked, measured and thrown away; nobody is asked"
          >
            Rehearse it: restore, check, throw away
          </Button>
          {!props.may && (
            <Box sx={{ color: 'text.secondary' }}>Only who operates or administers may begin a restore.</Box>
          )}
          {failed && <Box sx={{ color: 'error.main' }}>A precheck failed; choose another host or mend it first.</Box>}
        </Box>
      )}
      {w && (
        <InPlace
          ways={w}
          zone={zone}
          may={props.may && !props.busy && !wrongChecks}
          settings={props.settings}
          onSettings={props.onSettings}
          onStart={() => props.onStart('inPlace')}
        />
      )}
      {(w?.doesNotComeAlong.length ?? 0) > 0 && (
        <SideSection level="h3" title="Does not come along">
          <Box component="ul" sx={{ my: 0.5, pl: 2.25, color: 'text.secondary', fontSize: 12.5 }}>
            {w!.doesNotComeAlong.map((t) => (
              <li key={t}>{t}</li>
            ))}
          </Box>
        </SideSection>
      )}
      {w?.best && (
        <Box sx={{ display: 'flex', gap: 1 }}>
          <Take name={`${w.database}-restore.md`} text={w.markdown}>
            Steps as Markdown
          </Take>
          <Take name={`${w.database}-restore.sh`} text={w.script}>
            as a script
          </Take>
        </Box>
      )}
    </Side>
  );
}

/** Putting the database itself back: what that reaches, takes and costs, or why it cannot be. */
function InPlace({
  ways: w,
  zone,
  may,
  settings,
  onSettings,
  onStart,
}: {
  ways: Schemas['WaysView'];
  zone: string;
  may: boolean;
  settings: SettingsWhen;
  onSettings: (when: SettingsWhen) => void;
  onStart: () => void;
}) {
  const p = w.inPlace;
  return (
    <SideSection level="h3" title="Or in its place">
      {p.reaches === null ? (
        <Box sx={{ color: 'text.secondary' }}>It cannot be put back in place: {p.whyNot}.</Box>
      ) : (
        <>
          <Box sx={{ mb: 1 }}>
            {w.name} itself is put back to <b>{localTime(p.reaches, zone)}</b>; the <b>{duration(p.givesUpSeconds)}</b>{' '}
            since then are not in it afterwards. What it holds is saved first, to the last minute, and can be had back.
            Everybody is kept out meanwhile, about <b>{duration(p.seconds! + w.checkSeconds + w.redirectSeconds)}</b>{' '}
            and the hold. A second person agrees first.
          </Box>
          {p.whyNot !== null && <Box sx={{ color: 'error.main', mb: 1 }}>{p.whyNot}</Box>}
          <SettingsChoice settings={p.settings} when={settings} zone={zone} onWhen={onSettings} />
          <Button
            variant="outlined"
            disabled={!may || p.whyNot !== null || isAsked(p.settings, settings)}
            onClick={onStart}
          >
            Put it back in place
          </Button>
        </>
      )}
    </SideSection>
  );
}

/** Something to take along as a file. */
function Take({ name, text, children }: { name: string; text: string; children: React.ReactNode }) {
  return (
    <Button
      onClick={() => {
        keepFile(new Blob([text], { type: 'text/plain' }), name);
      }}
    >
      {children}
    </Button>
  );
}
