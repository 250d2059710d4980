import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useLocation } from 'react-router';
import { api, got, putFile, type Schemas } from '../../api/client';
import { withPremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { FileField } from './FileField';

/** Until when each version is supported, as a bar over the coming years, and who must move on. */
export function VersionsPanel() {
  const may = useMay('plan');
  const { search } = useLocation();
  const queries = useQueryClient();
  const [file, setFile] = useState<File | null>(null);
  const calendar = useQuery({ queryKey: ['versions'], queryFn: () => got(api.GET('/api/versions')) });
  const send = useMutation({
    mutationFn: () => putFile<Schemas['VersionsKept']>('/api/versions', file!),
    onSuccess: () => queries.invalidateQueries(),
  });
  const v = calendar.data;
  const longest = Math.max(365, ...(v?.versions.map((x) => x.daysLeft) ?? []));
  const colour = (days: number) =>
    days < 0 ? 'verdict.breached' : days <= (v?.nearDays ?? 0) ? 'verdict.atRisk' : 'primary.main';
  return (
    <Box
      component="section"
      aria-label="Version calendar"
      sx={{ borderTop: 1, borderColor: 'divider', pt: 1.5, mb: 2 }}
    >
      <h2 style={{ fontSize: 15, margin: '0 0 8px' }}>Version calendar</h2>
      {v && v.versions.length === 0 && (
        <Box sx={{ color: 'text.secondary', mb: 1 }}>
          It is empty. A file <code>{'{"versions":[{"engine","version","supportedUntil"}]}'}</code> says until when
          which version is supported; databases past that, or within {v.nearDays} days of it, are findings.
        </Box>
      )}
      {v && v.versions.length > 0 && (
        <Box
          sx={{
            display: 'grid',
            gridTemplateColumns: { xs: 'minmax(0, 1fr) auto', sm: '190px 120px minmax(120px, 1fr) 190px' },
            columnGap: 2,
            rowGap: 0.5,
            alignItems: 'center',
            mb: 1.25,
          }}
        >
          {v.versions.map((x) => (
            <Box key={x.engine + x.version} sx={{ display: 'contents' }}>
              <Box>
                {x.engineName} <b>{x.version}</b>
              </Box>
              <Box sx={{ color: 'text.secondary' }}>
                {x.databases === 0 ? 'none runs it' : `${x.databases} ${x.databases === 1 ? 'runs' : 'run'} it`}
              </Box>
              <Box aria-hidden sx={{ height: 8, bgcolor: 'divider', display: { xs: 'none', sm: 'block' } }}>
                <Box
                  sx={{
                    height: 8,
                    width: `${(Math.max(0, x.daysLeft) / longest) * 100}%`,
                    bgcolor: x.databases === 0 ? 'line' : colour(x.daysLeft),
                  }}
                />
              </Box>
              <Box sx={{ color: x.databases > 0 && x.daysLeft <= v.nearDays ? colour(x.daysLeft) : undefined }}>
                {x.supportedUntil},{' '}
                {x.daysLeft < 0
                  ? `ended ${-x.daysLeft} days ago`
                  : `${x.daysLeft} ${x.daysLeft === 1 ? 'day' : 'days'}`}
              </Box>
            </Box>
          ))}
        </Box>
      )}
      {v && v.due.length > 0 && (
        <Box sx={{ mb: 1.25 }}>
          <b>{v.due.length}</b> must move on within {v.nearDays} days:{' '}
          {v.due.slice(0, 12).map((d, i) => (
            <span key={d.database}>
              {i > 0 && ', '}
              <Link to={withPremise(`/databases/${d.database}`, search)}>{d.name}</Link>
            </span>
          ))}
          {v.due.length > 12 && ` and ${v.due.length - 12} more`}.
        </Box>
      )}
      {v && v.unknown > 0 && v.versions.length > 0 && (
        <Box sx={{ color: 'text.secondary', mb: 1 }}>
          Of {v.unknown} {v.unknown === 1 ? 'database' : 'databases'} the version is not stated, or not in it.
        </Box>
      )}
      <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', flexWrap: 'wrap' }}>
        <Button variant="outlined" href="/api/export/versions" download>
          Export it
        </Button>
        {may && (
          <>
            <FileField label="Calendar file" accept=".json" file={file} onFile={setFile} />
            <Button variant="contained" disabled={!file || send.isPending} onClick={() => send.mutate()}>
              Put in force
            </Button>
          </>
        )}
      </Box>
      {send.error && (
        <Alert severity="error" variant="outlined" sx={{ mt: 1 }}>
          {send.error.message}
        </Alert>
      )}
      {send.data && (
        <Alert severity={send.data.kept ? 'success' : 'error'} variant="outlined" sx={{ mt: 1 }}>
          {send.data.kept ? `${send.data.versions} versions are in force.` : 'Nothing was changed.'}
          <Box component="ul" sx={{ pl: 2.25, my: 0.5, maxHeight: 240, overflow: 'auto' }}>
            {[...send.data.faults, ...send.data.warnings].slice(0, 100).map((f, i) => (
              <li key={i}>
                line {f.line}, <code>{f.member}</code>: {f.message}
              </li>
            ))}
          </Box>
        </Alert>
      )}
    </Box>
  );
}
