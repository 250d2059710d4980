import Autocomplete from '@mui/material/Autocomplete';
import TextField from '@mui/material/TextField';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got } from '../api/client';
import { databaseOption, mostFound, type FoundDatabase } from './databaseOption';

function useFound(find: string, enabled: boolean): FoundDatabase[] | undefined {
  return useQuery({
    queryKey: ['fleet', 'find', find],
    enabled,
    placeholderData: keepPreviousData,
    queryFn: () => got(api.GET('/api/fleet', { params: { query: { find, take: mostFound } } })),
  }).data?.rows;
}

/** Chooses a database by name, service or host. The server finds, so that it serves a fleet of any size. */
export function DatabaseField({ id, onPick }: { id: string | null; onPick: (id: string) => void }) {
  const [text, setText] = useState('');
  const named = useFound(id ?? '', id !== null);
  const found = useFound(text, true) ?? [];
  const chosen: FoundDatabase | null =
    id === null ? null : (named?.find((r) => r.id === id) ?? { id, name: id, service: null, host: '' });
  return (
    <Autocomplete
      size="small"
      sx={{ width: 340 }}
      options={found}
      filterOptions={(o) => o}
      value={chosen}
      disableClearable={chosen !== null}
      getOptionLabel={(r) => r.name}
      getOptionKey={(r) => r.id}
      isOptionEqualToValue={(a, b) => a.id === b.id}
      onInputChange={(_, value, reason) => setText(reason === 'input' ? value : '')}
      onChange={(_, r) => r && onPick(r.id)}
      renderOption={databaseOption}
      renderInput={(p) => <TextField {...p} label="Database" />}
    />
  );
}
