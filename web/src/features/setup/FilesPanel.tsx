import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import FormControlLabel from '@mui/material/FormControlLabel';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { sendFiles } from '../../api/client';
import { useMay } from '../../app/session';
import { count } from '../../shared/format';
import { FileField } from './FileField';

/** The two open files, in and out. */
export function FilesPanel({ demo }: { demo: boolean }) {
  const may = useMay('plan');
  const queries = useQueryClient();
  const [fleet, setFleet] = useState<File | null>(null);
  const [catalogue, setCatalogue] = useState<File | null>(null);
  const [skip, setSkip] = useState(false);
  const send = useMutation({
    mutationFn: () => {
      const form = new FormData();
      if (fleet) form.append('fleet', fleet);
      if (catalogue) form.append('catalogue', catalogue);
      return sendFiles(`/api/import${skip ? '?skipBad=true' : ''}`, form);
    },
    onSuccess: () => queries.invalidateQueries(),
  });
  const result = send.data;
  return (
    <Box component="section" sx={{ borderTop: 1, borderColor: 'divider', pt: 1.5 }}>
      <h2 style={{ fontSize: 15, margin: '0 0 8px' }}>Open files</h2>
      <Box sx={{ display: 'flex', gap: 1, mb: 1.5 }}>
        <Button variant="outlined" href="/api/export/fleet" download>
          Export the fleet
        </Button>
        <Button variant="outlined" href="/api/export/catalogue" download>
          Export the catalogue
        </Button>
        <Button variant="outlined" href="/api/export/catalogue.csv" download>
          as CSV
        </Button>
      </Box>
      {may ? (
        <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', flexWrap: 'wrap' }}>
          <FileField label="Fleet file" accept=".json" file={fleet} onFile={setFleet} />
          <FileField label="Catalogue file" accept=".jsonl,.csv" file={catalogue} onFile={setCatalogue} />
          <FormControlLabel
            control={<Checkbox checked={skip} onChange={(e) => setSkip(e.target.checked)} />}
            label="Skip bad lines of the catalogue"
          />
          <Button variant="contained" disabled={(!fleet && !catalogue) || send.isPending} onClick={() => send.mutate()}>
            Import
          </Button>
        </Box>
      ) : (
        <Box sx={{ color: 'text.secondary' }}>Who plans or administers may import.</Box>
      )}
      {demo && (
        <Box sx={{ color: 'text.secondary', mt: 1 }}>
          In the demo files are only checked: its fleet belongs to its simulated world. To import your own, start a
          server with <code>./imbrek serve</code>.
        </Box>
      )}
      {send.error && (
        <Alert severity="error" variant="outlined" sx={{ mt: 1 }}>
          {send.error.message}
        </Alert>
      )}
      {result && (
        <Alert severity={result.imported ? 'success' : 'error'} variant="outlined" sx={{ mt: 1 }}>
          {result.imported
            ? `Imported ${count(result.databases)} databases and ${count(result.sets)} sets.`
            : `Nothing was imported: ${count(result.faults.length)} ${result.faults.length === 1 ? 'fault' : 'faults'}.`}
          <Box component="ul" sx={{ pl: 2.25, my: 0.5, maxHeight: 300, overflow: 'auto' }}>
            {[...result.faults, ...result.warnings].slice(0, 200).map((f, i) => (
              <li key={i}>
                {f.file}, line {f.line}
                {f.member && (
                  <>
                    , <code>{f.member}</code>
                  </>
                )}
                : {f.message}
              </li>
            ))}
          </Box>
        </Alert>
      )}
    </Box>
  );
}
