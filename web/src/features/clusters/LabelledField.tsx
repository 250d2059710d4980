import TextField from '@mui/material/TextField';

/** A field with what it is and what to write in it; red when the server named it as the one at fault. */
export function LabelledField({
  words: [label, help],
  value,
  onChange,
  atFault,
  width,
}: {
  words: [string, string];
  value: string;
  onChange: (value: string) => void;
  atFault: boolean;
  width: number;
}) {
  return (
    <TextField
      label={label}
      helperText={help || ' '}
      value={value}
      onChange={(e) => onChange(e.target.value)}
      error={atFault}
      sx={{ width }}
    />
  );
}
