import Box from '@mui/material/Box';
import type { Schemas } from '../api/client';
import { ChoiceField } from './ChoiceField';
import { localTime } from './format';

/** When settings of a host may be changed; empty until somebody said. */
export type SettingsWhen = '' | 'now' | 'window';

/** Whether what must be changed still waits for an answer. */
export const isAsked = (settings: Schemas['SettingsView'] | null | undefined, when: SettingsWhen) =>
  !!settings && (when === '' || (when === 'window' && settings.window === null));

/** What must be changed on a host for a way to work, and when that may be. */
export function SettingsChoice(props: {
  settings: Schemas['SettingsView'] | null | undefined;
  when: SettingsWhen;
  zone: string;
  onWhen: (when: SettingsWhen) => void;
}) {
  const { settings } = props;
  if (!settings) return null;
  const window = settings.window;
  return (
    <Box component="section" aria-label="Settings it needs" sx={{ mb: 1.5 }}>
      <Box sx={{ mb: 1 }}>
        {settings.needs.map((n) => (
          <Box key={`${n.host} ${n.setting}`}>
            On <b>{n.host}</b> <b>{n.setting}</b> is {n.stated ?? 'not stated'}, and must be {n.value}.
          </Box>
        ))}
        <Box sx={{ color: 'text.secondary' }}>
          It is changed for this and set back afterwards, also when this fails or is called off.
        </Box>
      </Box>
      <ChoiceField
        label="It may be changed"
        value={props.when}
        of={{
          now: 'at once',
          ...(window && {
            window: `in its next window, ${localTime(window.from, props.zone)}: ${window.reason}`,
          }),
        }}
        width={300}
        onChange={(v) => props.onWhen(v as SettingsWhen)}
      />
      {!window && (
        <Box sx={{ color: 'text.secondary', fontSize: 12, mt: 0.5 }}>
          No maintenance window of {settings.needs[0]!.host} is set (Plans, pauses).
        </Box>
      )}
    </Box>
  );
}
