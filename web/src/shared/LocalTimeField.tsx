import TextField from '@mui/material/TextField';
import { readLocal } from './format';

/** An instant, written in a site's local time as `readLocal` reads it; while it cannot be read that is said. Left empty it means what stands in it then. */
export function LocalTimeField(props: {
  label: string;
  zone: string;
  value: string;
  onChange: (text: string) => void;
  /** What an empty field means; without it one is wrong. */
  empty?: string;
  /** What is said of it while it can be read. */
  help?: string;
  /** What was wrong with it when it was last sent. */
  error?: string;
  width?: number;
}) {
  const left = props.value.trim() === '';
  const wrong = left ? props.empty === undefined : readLocal(props.value, props.zone) === null;
  return (
    <TextField
      label={`${props.label}, local time (${props.zone})`}
      placeholder={props.empty}
      value={props.value}
      onChange={(e) => props.onChange(e.target.value)}
      error={wrong || props.error !== undefined}
      helperText={wrong ? 'such as 2026-11-27 18:00' : (props.error ?? props.help)}
      slotProps={{ inputLabel: { shrink: true } }}
      sx={{ width: props.width ?? 235 }}
    />
  );
}
