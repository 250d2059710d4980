import Box from '@mui/material/Box';
import Button from '@mui/material/Button';

/** A file of the person's own; the name of the one chosen stands beside the button. */
export function FileField(props: {
  label: string;
  accept: string;
  file: File | null;
  onFile: (f: File | null) => void;
}) {
  return (
    <Box sx={{ display: 'flex', alignItems: 'center', gap: 1 }}>
      <Button
        component="label"
        variant="outlined"
        role={undefined}
        tabIndex={-1}
        sx={{ '&:focus-within': { outline: '2px solid', outlineColor: 'primary.main', outlineOffset: 2 } }}
      >
        {props.label}…
        <input
          type="file"
          aria-label={props.label}
          accept={props.accept}
          onChange={(e) => props.onFile(e.target.files?.[0] ?? null)}
          style={{ position: 'absolute', width: 1, height: 1, overflow: 'hidden', clipPath: 'inset(50%)' }}
        />
      </Button>
      <Box sx={{ color: 'text.secondary' }}>{props.file?.name ?? 'none chosen'}</Box>
    </Box>
  );
}
