import Alert from '@mui/material/Alert';
import Button from '@mui/material/Button';

/** What went wrong, and what to do next. */
export function Failure({ error, again }: { error: Error; again?: () => void }) {
  return (
    <Alert
      severity="error"
      variant="outlined"
      sx={{ m: 2 }}
      action={again && <Button onClick={again}>Try again</Button>}
    >
      {error.message === 'Failed to fetch'
        ? 'The server cannot be reached. Nothing was changed by this page; it tries again by itself.'
        : error.message}
    </Alert>
  );
}
