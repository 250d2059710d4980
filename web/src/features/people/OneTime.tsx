import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';

/** Something that is shown once: an address, a token. */
export function OneTime({ what, text, onClose }: { what: string; text: string; onClose: () => void }) {
  return (
    <Alert severity="info" variant="outlined" icon={false} sx={{ mb: 1 }}>
      {what}:
      <Box component="code" data-testid="one-time" sx={{ display: 'block', my: 0.75, overflowWrap: 'anywhere' }}>
        {text}
      </Box>
      <Button variant="outlined" onClick={() => void navigator.clipboard?.writeText(text)}>
        Copy it
      </Button>{' '}
      <Button color="inherit" onClick={onClose}>
        Done
      </Button>
    </Alert>
  );
}
