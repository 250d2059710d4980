import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useLocation } from 'react-router';
import { api, got, type Schemas } from '../../api/client';
import { useAddress } from '../../app/address';
import { usePlaces, useZone } from '../../app/places';
import { useGo, usePremise, withPremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { ChoiceField } from '../../shared/ChoiceField';
import { DatabaseField } from '../../shared/DatabaseField';
import { Failure } from '../../shared/Failure';
import { duration, localTime, readLocal, utc } from '../../shared/format';
import { Side } from '../../shared/Side';
import { Worksheet } from '../../shared/Worksheet';
import { LocalTimeField } from '../../shared/LocalTimeField';

/** As many as can be brought to one instant together. */
const most = 100;

/** Several databases to one instant: which that is, who holds it back, and what each gives up for the others. */
export default function SeveralPage() {
  const premise = usePremise();
  const zone = useZone();
  const go = useGo();
  const may = useMay('operate');
  const [params, write] = useAddress();
  const [suffix, setSuffix] = useState('');
  const [when, setWhen] = useState('');
  const databases = (params.get('databases') ?? '').split(',').filter((d) => d !== '');
  const put = (those: string[]) => write({ databases: those.length > 0 ? those.join(',') : null });
  const until = when.trim() === '' ? null : readLocal(when, zone);
  const body = {
    databases,
    target: until === null ? null : utc(until),
    loss: premise.loss,
    suffix: suffix.trim() || null,
  };
  const sheet = useQuery({
    queryKey: ['recover', 'several', body],
    enabled: databases.length > 0,
    placeholderData: keepPreviousData,
    retry: false,
    refetchInterval: 30_000,
    queryFn: () => got(api.POST('/api/recover/several/worksheet', { body })),
  });
  const begin = useMutation({
    // What is shown is what is done: the instant beside the button, whatever could be had since.
    mutationFn: () => got(api.POST('/api/recover/several', { body: { ...body, target: sheet.data!.common } })),
    onSuccess: (run) => go(`/runs/${run.id}`),
  });
  const hosts = usePlaces().data?.things.filter((t) => t.kind === 'host') ?? [];
  const all = useMutation({
    mutationFn: async (host: string) =>
      (await got(api.GET('/api/fleet', { params: { query: { find: host, take: most } } }))).rows.filter(
        (r) => r.host === host,
      ),
    onSuccess: (rows) => put([...new Set([...databases, ...rows.map((r) => r.id)])].slice(0, most)),
  });
  const s = databases.length > 0 ? sheet.data : undefined;
  return (
    <Worksheet side={340}>
      <Box sx={{ p: 2, display: 'flex', flexDirection: 'column', gap: 1.5, minWidth: 0 }}>
        <h1 style={{ fontSize: 20, margin: 0 }}>Several databases to one instant</h1>
        <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5, alignItems: 'start' }}>
          <DatabaseField
            key={databases.length}
            id={null}
            onPick={(d) => !databases.includes(d) && put([...databases, d])}
          />
          <ChoiceField
            label="All of a host"
            value=""
            of={Object.fromEntries(hosts.map((h) => [h.id, h.name]))}
            width={160}
            onChange={(h) => all.mutate(h)}
          />
          <LocalTimeField label="Not after" zone={zone} empty="now" value={when} onChange={setWhen} />
          <TextField
            label="Added to each name"
            placeholder="together"
            value={suffix}
            onChange={(e) => setSuffix(e.target.value)}
            slotProps={{ inputLabel: { shrink: true } }}
            sx={{ width: 170 }}
          />
        </Box>
        {databases.length === 0 && (
          <Box sx={{ color: 'text.secondary' }}>
            Choose those that belong together: each is restored beside itself to the latest instant that all of them can
            be brought to.
          </Box>
        )}
        {sheet.error && <Failure error={sheet.error} />}
        {s && <Members rows={s.members} zone={zone} onRemove={(d) => put(databases.filter((x) => x !== d))} />}
      </Box>
      <Side label="What comes of it">
        <Box component="h2" sx={{ m: 0, mb: 1, fontSize: 15 }}>
          Before you act
        </Box>
        {!s && <Box sx={{ color: 'text.secondary' }}>Choose at least one database.</Box>}
        {s && (
          <>
            {s.common !== null && (
              <Box sx={{ mb: 1.5 }}>
                All are brought to
                <Box sx={{ fontSize: 17, fontWeight: 620 }} title={utc(s.common)}>
                  {localTime(s.common, zone)}
                </Box>
                and nothing after it is in any of them.
                {s.seconds !== null && (
                  <>
                    {' '}
                    Ready for a look in about <b>{duration(s.seconds)}</b>, as many at once on a host as it has slots.
                  </>
                )}{' '}
                Nothing that runs is touched. All are held until somebody has looked, then released together or thrown
                away together; where one cannot be had, none is kept.
              </Box>
            )}
            {s.refused !== null && (
              <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
                It cannot be begun: {s.refused}.
              </Alert>
            )}
            {begin.error && (
              <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
                {begin.error.message}
              </Alert>
            )}
            <Button
              variant="contained"
              size="large"
              disabled={!may || s.refused !== null || begin.isPending || sheet.isPlaceholderData}
              onClick={() => begin.mutate()}
            >
              Restore all to this instant
            </Button>
            {!may && (
              <Box sx={{ color: 'text.secondary', mt: 1 }}>Only who operates or administers may begin a restore.</Box>
            )}
          </>
        )}
      </Side>
    </Worksheet>
  );
}

function Members({
  rows,
  zone,
  onRemove,
}: {
  rows: Schemas['SeveralMemberView'][];
  zone: string;
  onRemove: (database: string) => void;
}) {
  const { search } = useLocation();
  const cell = { borderTop: 1, borderColor: 'divider', py: 0.5, minWidth: 0, overflowWrap: 'anywhere' } as const;
  const most = Math.max(1, ...rows.map((r) => r.givesUpSeconds ?? 0));
  return (
    <Box
      component="section"
      aria-label="Databases"
      sx={{
        display: 'grid',
        gridTemplateColumns: {
          xs: 'repeat(2, minmax(0, 1fr))',
          sm: 'minmax(120px, 1fr) minmax(150px, 1.2fr) minmax(130px, 1fr) minmax(120px, 1fr) auto',
        },
        columnGap: 2,
      }}
    >
      {['Database', 'by itself up to', 'gives up for the others', 'ready in', ''].map((c) => (
        <Box key={c} sx={{ fontSize: 12, color: 'text.secondary', display: { xs: 'none', sm: 'block' } }}>
          {c}
        </Box>
      ))}
      {rows.map((r) => (
        <Box key={r.database} sx={{ display: 'contents' }}>
          <Box sx={cell}>
            <Link to={withPremise(`/databases/${r.database}`, search)}>{r.name}</Link>
            {r.holdsBack && <Box sx={{ fontSize: 12, color: 'verdict.atRisk' }}>holds the others back</Box>}
          </Box>
          <Box sx={cell}>{r.latest === null ? 'cannot be restored' : localTime(r.latest, zone)}</Box>
          <Box sx={cell}>
            {r.givesUpSeconds === null ? '–' : r.givesUpSeconds < 0.5 ? 'nothing' : duration(r.givesUpSeconds)}
            <Box
              aria-hidden
              sx={{
                height: 3,
                mt: 0.25,
                width: `${((r.givesUpSeconds ?? 0) / most) * 100}%`,
                bgcolor: 'verdict.atRisk',
              }}
            />
          </Box>
          <Box sx={cell}>
            {r.readySeconds === null ? '–' : duration(r.readySeconds)}
            {r.host !== null && `, on ${r.host}`}
            {r.whyNot !== null && <Box sx={{ fontSize: 12, color: 'verdict.breached' }}>{r.whyNot}</Box>}
          </Box>
          <Box sx={cell}>
            <Button aria-label={`Leave ${r.name} out`} onClick={() => onRemove(r.database)}>
              Leave out
            </Button>
          </Box>
        </Box>
      ))}
    </Box>
  );
}
