import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got, takeFile } from '../../api/client';
import { count } from '../../shared/format';

/** A query of one's own, asked of a copy that stands: its rows are shown, and taken out as a file. */
export function AskCopy({ run, database }: { run: string; database: string }) {
  const [query, setQuery] = useState('');
  const ask = useMutation({
    mutationFn: () => got(api.POST('/api/copies/{id}/rows', { params: { path: { id: run } }, body: { query } })),
  });
  const take = useMutation({
    mutationFn: () => takeFile(`/api/copies/${run}/rows.csv`, { query }, `${database}-rows.csv`),
  });
  const answer = ask.data;
  const wrong = ask.error ?? take.error;
  return (
    <Box component="section" aria-label="Rows" sx={{ mt: 1, p: 1.25, bgcolor: 'background.paper' }}>
      <Box
        component="form"
        sx={{ display: 'flex', gap: 1, alignItems: 'start', flexWrap: 'wrap' }}
        onSubmit={(e) => {
          e.preventDefault();
          ask.mutate();
        }}
      >
        <TextField
          label="One query, for reading"
          value={query}
          onChange={(e) => setQuery(e.target.value)}
          multiline
          maxRows={6}
          sx={{ flex: '1 1 320px', '& textarea': { fontFamily: 'monospace', fontSize: 12.5 } }}
        />
        <Button type="submit" variant="outlined" disabled={query.trim() === '' || ask.isPending}>
          Show rows
        </Button>
        <Button disabled={query.trim() === '' || take.isPending} onClick={() => take.mutate()}>
          Take them out as CSV
        </Button>
      </Box>
      {wrong && (
        <Alert severity="error" variant="outlined" sx={{ mt: 1 }}>
          {wrong.message}
        </Alert>
      )}
      {answer && (
        <>
          <Box sx={{ fontSize: 12, color: 'text.secondary', my: 0.75 }}>
            {answer.more
              ? `The first ${count(answer.rows.length)} rows; the file has all.`
              : `${count(answer.rows.length)} ${answer.rows.length === 1 ? 'row' : 'rows'}`}
          </Box>
          <Box sx={{ maxHeight: 260, overflow: 'auto' }} tabIndex={0} role="region" aria-label="Answer">
            <Box component="table" sx={{ borderCollapse: 'collapse', fontSize: 12.5, fontFamily: 'monospace' }}>
              <thead>
                <tr>
                  {answer.columns.map((c, i) => (
                    <Box component="th" key={i} sx={{ textAlign: 'left', pr: 3, fontWeight: 620 }}>
                      {c}
                    </Box>
                  ))}
                </tr>
              </thead>
              <tbody>
                {answer.rows.map((r, i) => (
                  <tr key={i}>
                    {r.map((v, j) => (
                      <Box
                        component="td"
                        key={j}
                        sx={{
                          pr: 3,
                          borderTop: 1,
                          borderColor: 'divider',
                          color: v === null ? 'text.secondary' : undefined,
                        }}
                      >
                        {v ?? 'none'}
                      </Box>
                    ))}
                  </tr>
                ))}
              </tbody>
            </Box>
          </Box>
        </>
      )}
    </Box>
  );
}
