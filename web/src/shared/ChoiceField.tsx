import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';

/** One of a few values, each said in words. */
export function ChoiceField(props: {
  label: string;
  value: string;
  of: Record<string, string>;
  width: number;
  onChange: (value: string) => void;
}) {
  return (
    <TextField
      select
      label={props.label}
      value={props.value in props.of ? props.value : ''}
      onChange={(e) => props.onChange(e.target.value)}
      sx={{ width: props.width }}
    >
      {Object.entries(props.of).map(([value, words]) => (
        <MenuItem key={value} value={value}>
          {words}
        </MenuItem>
      ))}
    </TextField>
  );
}
