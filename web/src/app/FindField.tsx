import Autocomplete from '@mui/material/Autocomplete';
import TextField from '@mui/material/TextField';
import { useQuery } from '@tanstack/react-query';
import { useState, type RefObject } from 'react';
import { api, got } from '../api/client';
import { databaseOption, mostFound } from '../shared/databaseOption';
import { useGo } from './premise';

/** Finds a database by name, service or host and goes there. */
export function FindField({ inputRef }: { inputRef: RefObject<HTMLInputElement | null> }) {
  const [text, setText] = useState('');
  const go = useGo();
  const found = useQuery({
    queryKey: ['fleet', 'find', text],
    enabled: text.trim().length > 0,
    placeholderData: (before) => before,
    queryFn: () => got(api.GET('/api/fleet', { params: { query: { find: text, take: mostFound } } })),
  });
  const open = (id: string) => {
    setText('');
    inputRef.current?.blur();
    go(`/databases/${id}`);
  };
  /** Enter without choosing: what comes first is gone to as soon as it is known. */
  const openFirst = async (find: string) => {
    const first = (await got(api.GET('/api/fleet', { params: { query: { find, take: 1 } } }))).rows[0];
    if (first) open(first.id);
  };
  return (
    <Autocomplete
      size="small"
      sx={{ width: '100%', maxWidth: 300 }}
      options={text.trim() ? (found.data?.rows ?? []) : []}
      filterOptions={(o) => o}
      getOptionLabel={(r) => (typeof r === 'string' ? r : r.name)}
      getOptionKey={(r) => (typeof r === 'string' ? r : r.id)}
      inputValue={text}
      value={null}
      freeSolo
      onInputChange={(_, value, reason) => setText(reason === 'reset' ? '' : value)}
      onChange={(_, row) => {
        if (typeof row === 'string') void openFirst(row);
        else if (row) open(row.id);
      }}
      renderOption={databaseOption}
      renderInput={(params) => (
        <TextField {...params} inputRef={inputRef} placeholder="Find a database  ( / )" aria-label="Find a database" />
      )}
    />
  );
}
