import TextField from '@mui/material/TextField';

/** A password that somebody has, or chooses anew: the browser offers to fill in the one and to keep the other. */
export function PasswordField({
  label = 'Password',
  anew = false,
  value,
  onChange,
}: {
  label?: string;
  anew?: boolean;
  value: string;
  onChange: (value: string) => void;
}) {
  return (
    <TextField
      label={label}
      type="password"
      autoComplete={anew ? 'new-password' : 'current-password'}
      helperText={anew && '12 characters or more'}
      value={value}
      onChange={(e) => onChange(e.target.value)}
      required
    />
  );
}
