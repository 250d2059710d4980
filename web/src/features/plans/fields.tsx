import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import { useState } from 'react';

/** A field whose text means something; what cannot be read is marked and not taken over. */
export function Typed<T>({
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

/** One of a few, each said in words. */
export function Choice({
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
