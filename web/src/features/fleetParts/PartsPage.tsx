import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useDeferredValue, useState } from 'react';
import { Link, useLocation, useParams } from 'react-router';
import { api, got } from '../../api/client';
import { withPremise } from '../../app/premise';
import { useMay } from '../../app/session';
import { Failure } from '../../shared/Failure';
import { idOfPart, lists, typed, type ListName, type Part } from './members';

/** The parts of the fleet, list by list, to be looked at and edited by hand. */
export default function PartsPage() {
  const { list = 'databases' } = useParams();
  const { search } = useLocation();
  const may = useMay('administer');
  const [find, setFind] = useState('');
  const asked = useDeferredValue(find);
  const known = list in lists;
  const parts = useQuery({
    queryKey: ['parts', list, asked],
    enabled: known,
    placeholderData: keepPreviousData,
    queryFn: () => got(api.GET('/api/fleet/parts/{list}', { params: { path: { list }, query: { find: asked } } })),
  });
  if (!known) return <Box sx={{ p: 3 }}>The fleet has no {list}.</Box>;
  const of = lists[list as ListName];
  const columns = of.members.filter((m) => m.kind !== 'flag').slice(0, 5);
  const shown = (parts.data?.list === list ? parts.data.parts : []) as Part[];
  return (
    <Box sx={{ p: 2 }}>
      <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', flexWrap: 'wrap', mb: 1.5 }}>
        <h1 style={{ fontSize: 20, margin: 0 }}>The fleet, part by part</h1>
        <Link to={withPremise('/agreed', search)}>what was agreed</Link>
        <Link to={withPremise('/setup/inventory', search)}>what hosts say they run</Link>
        {may && (
          <Button
            component={Link}
            to={withPremise(`/setup/fleet/${list}/new`, search)}
            variant="outlined"
            sx={{ ml: 'auto' }}
          >
            Add {/^[aeiou]/.test(of.one) ? 'an' : 'a'} {of.one}
          </Button>
        )}
      </Box>
      <Box component="nav" aria-label="Lists" sx={{ display: 'flex', gap: 2, flexWrap: 'wrap', mb: 1.5 }}>
        {(Object.keys(lists) as ListName[]).map((l) => (
          <Box
            key={l}
            component={Link}
            to={withPremise(`/setup/fleet/${l}`, search)}
            aria-current={l === list ? 'page' : undefined}
            sx={{ py: 0.5, fontWeight: l === list ? 650 : 400, textDecoration: l === list ? 'none' : undefined }}
          >
            {lists[l].word}
          </Box>
        ))}
      </Box>
      <TextField
        label={`Find among the ${of.word.toLowerCase()}`}
        value={find}
        onChange={(e) => setFind(e.target.value)}
        sx={{ width: 300, mb: 1.5 }}
      />
      {parts.error && <Failure error={parts.error} again={() => void parts.refetch()} />}
      <Box sx={{ overflowX: 'auto' }}>
        <Box
          role="table"
          aria-label={of.word}
          sx={{
            display: 'grid',
            gridTemplateColumns: `minmax(140px, 1fr) repeat(${columns.length}, minmax(110px, 1fr))`,
            columnGap: 2,
            minWidth: 140 + columns.length * 125,
          }}
        >
          <Box role="row" sx={{ display: 'contents', color: 'text.secondary', fontSize: 12 }}>
            <Box role="columnheader">{list === 'links' ? 'Between' : 'Identifier'}</Box>
            {columns.map((m) => (
              <Box role="columnheader" key={m.key}>
                {m.label}
              </Box>
            ))}
          </Box>
          {shown.map((p) => (
            <Box
              role="row"
              key={idOfPart(list as ListName, p)}
              sx={{
                display: 'contents',
                '& > *': { borderTop: 1, borderColor: 'line', py: 0.5, overflowWrap: 'anywhere' },
              }}
            >
              <Box role="cell">
                <Link
                  to={withPremise(`/setup/fleet/${list}/${encodeURIComponent(idOfPart(list as ListName, p))}`, search)}
                >
                  {list === 'links' ? (p.between as string[]).join(' and ') : String(p.id)}
                </Link>
              </Box>
              {columns.map((m) => (
                <Box role="cell" key={m.key}>
                  {Array.isArray(p[m.key]) ? (p[m.key] as string[]).join(', ') : typed(m, p[m.key])}
                </Box>
              ))}
            </Box>
          ))}
        </Box>
      </Box>
      {parts.data && parts.data.total > shown.length && (
        <Box sx={{ color: 'text.secondary', mt: 1 }}>
          {shown.length} of {parts.data.total}: find the others by name.
        </Box>
      )}
      {parts.data?.list === list && shown.length === 0 && (
        <Box sx={{ color: 'text.secondary', mt: 1 }}>{find ? 'None is called so.' : 'There is none yet.'}</Box>
      )}
    </Box>
  );
}
