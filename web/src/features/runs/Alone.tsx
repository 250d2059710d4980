import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got } from '../../api/client';

/** In an emergency one person decides alone what needs a second one: asked for twice, told to everybody. */
export function Alone({ run, step, database }: { run: string; step: number; database: string }) {
  const [stage, setStage] = useState<'closed' | 'why' | 'again'>('closed');
  const [why, setWhy] = useState('');
  const [word, setWord] = useState('');
  const queries = useQueryClient();
  const decide = useMutation({
    mutationFn: () =>
      got(api.POST('/api/runs/{id}/alone', { params: { path: { id: run } }, body: { step, why, word } })),
    onSettled: () => queries.invalidateQueries({ queryKey: ['run', run] }),
  });
  if (stage === 'closed')
    return (
      <Button size="small" color="error" onClick={() => setStage('why')}>
        Nobody else can be asked…
      </Button>
    );
  return (
    <Box sx={{ display: 'flex', flexDirection: 'column', gap: 1.25, mt: 1 }}>
      <TextField
        label="Why nobody else can be asked"
        value={why}
        onChange={(e) => setWhy(e.target.value)}
        disabled={stage === 'again'}
        multiline
      />
      {stage === 'why' ? (
        <Box sx={{ display: 'flex', gap: 1 }}>
          <Button color="error" disabled={why.trim() === ''} onClick={() => setStage('again')}>
            Decide alone
          </Button>
          <Button onClick={() => setStage('closed')}>Wait for somebody</Button>
        </Box>
      ) : (
        <>
          <Box>
            Everybody is told, and the ledger says that you alone decided. Write the name of the database,{' '}
            <b>{database}</b>, to go on.
          </Box>
          <TextField label="Database" value={word} onChange={(e) => setWord(e.target.value)} />
          <Box sx={{ display: 'flex', gap: 1 }}>
            <Button
              variant="contained"
              color="error"
              disabled={word !== database || decide.isPending}
              onClick={() => decide.mutate()}
            >
              I alone approve it
            </Button>
            <Button onClick={() => setStage('closed')}>Wait for somebody</Button>
          </Box>
        </>
      )}
      {decide.error && (
        <Alert severity="error" variant="outlined">
          {decide.error.message}
        </Alert>
      )}
    </Box>
  );
}
