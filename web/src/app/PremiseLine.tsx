import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Divider from '@mui/material/Divider';
import ListSubheader from '@mui/material/ListSubheader';
import Menu from '@mui/material/Menu';
import MenuItem from '@mui/material/MenuItem';
import Popover from '@mui/material/Popover';
import TextField from '@mui/material/TextField';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got } from '../api/client';
import { count, localTime, readLocal, utc, writeLocal } from '../shared/format';
import { nowMs } from './live';
import { usePlaces, useZone } from './places';
import { usePremise } from './premise';

const kinds: [string, string, string][] = [
  ['none', 'nothing', 'a bad change inside the database'],
  ['host', 'the host', 'the one each database runs on'],
  ['array', 'the array', 'the one each database lies on'],
  ['site', 'the site', 'the one each database is in'],
  ['hostile', 'what stolen credentials can delete', 'every copy neither offline nor locked'],
];

/** The sentence that every figure on every page answers. */
export function PremiseLine() {
  const { loss, at, query, set } = usePremise();
  const zone = useZone();
  const places = usePlaces().data?.things ?? [];
  const answer = useQuery({
    queryKey: ['fleet', 'answer', query],
    placeholderData: (before) => before,
    queryFn: () => got(api.GET('/api/fleet', { params: { query: { ...query, take: 1 } } })),
  }).data?.answer;
  const changed = loss !== 'none' || at !== null;
  const [kind, id] = loss.split(':');
  const bare = kinds.find(([k]) => k === loss);
  const words = bare ? bare[1] : `${kind} ${places.find((p) => p.kind === kind && p.id === id)?.name ?? id}`;
  return (
    <Box
      role="region"
      aria-label="Premise"
      sx={{
        display: 'flex',
        alignItems: 'center',
        gap: 0.75,
        px: 2,
        borderBottom: 1,
        borderColor: 'divider',
        bgcolor: changed
          ? 'color-mix(in srgb, var(--mui-palette-warning-main) 12%, var(--mui-palette-background-default))'
          : 'background.default',
        whiteSpace: 'nowrap',
        flexWrap: { xs: 'wrap', md: 'nowrap' },
        overflow: 'hidden',
      }}
    >
      Suppose we lose
      <LossPicker
        label={words}
        onPick={(l) => set({ loss: l })}
        places={places}
        of={bare && ['host', 'array', 'site'].includes(loss) ? ' of each database' : ''}
      />
      at
      <InstantPicker at={at} zone={zone} onPick={(a) => set({ at: a })} />
      {changed && (
        <Button
          size="small"
          color="inherit"
          variant="outlined"
          onClick={() => set({ loss: 'none', at: null })}
          sx={{ ml: 1, py: 0 }}
        >
          Back to now
        </Button>
      )}
      <Box sx={{ flex: 1 }} />
      {answer && (
        <Box data-testid="answer" sx={{ fontWeight: 600, whiteSpace: { xs: 'normal', md: 'nowrap' } }}>
          {count(answer.hold)} of {count(answer.databases)} hold
          {answer.loseTooMuch > 0 &&
            ` · ${count(answer.loseTooMuch)} lose${answer.loseTooMuch === 1 ? 's' : ''} too much`}
          {answer.takeTooLong > 0 &&
            ` · ${count(answer.takeTooLong)} take${answer.takeTooLong === 1 ? 's' : ''} too long`}
          {answer.nothing > 0 && ` · ${count(answer.nothing)} could not be restored`}
        </Box>
      )}
    </Box>
  );
}

function Pick({ label, onClick, name }: { label: string; onClick: (e: HTMLElement) => void; name: string }) {
  return (
    <Button
      variant="text"
      color="inherit"
      aria-label={`${name}: ${label}`}
      aria-haspopup="true"
      onClick={(e) => onClick(e.currentTarget)}
      sx={{
        px: 0.5,
        py: 0,
        minWidth: 0,
        fontWeight: 700,
        fontSize: 13,
        borderBottom: '1px dashed',
        borderRadius: 0,
        borderColor: 'line',
      }}
    >
      {label}
    </Button>
  );
}

function LossPicker(props: {
  label: string;
  of: string;
  onPick: (loss: string) => void;
  places: { kind: string; id: string; name: string }[];
}) {
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  const pick = (loss: string) => {
    setAnchor(null);
    props.onPick(loss);
  };
  return (
    <>
      <Pick label={props.label} name="Loss" onClick={setAnchor} />
      {props.of && <span>{props.of}</span>}
      <Menu
        anchorEl={anchor}
        open={anchor !== null}
        onClose={() => setAnchor(null)}
        slotProps={{ paper: { sx: { maxHeight: 480 } } }}
      >
        {kinds.map(([k, word, means]) => (
          <MenuItem key={k} onClick={() => pick(k)} sx={{ gap: 1 }}>
            <b>{word}</b> <Box sx={{ color: 'text.secondary' }}>{means}</Box>
          </MenuItem>
        ))}
        <Divider />
        {['site', 'array', 'host'].flatMap((k) => [
          <ListSubheader key={k} sx={{ lineHeight: '28px', bgcolor: 'inherit' }}>
            One {k}, for all
          </ListSubheader>,
          ...props.places
            .filter((p) => p.kind === k)
            .map((p) => (
              <MenuItem key={`${k}:${p.id}`} onClick={() => pick(`${k}:${p.id}`)}>
                {p.name}
              </MenuItem>
            )),
        ])}
      </Menu>
    </>
  );
}

function InstantPicker({ at, zone, onPick }: { at: string | null; zone: string; onPick: (at: string | null) => void }) {
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  const [text, setText] = useState('');
  const ms = readLocal(text, zone);
  const future = ms !== null && ms > nowMs();
  const take = () => {
    if (ms !== null && !future) {
      setAnchor(null);
      onPick(utc(ms));
    }
  };
  return (
    <>
      <Pick
        label={at ? localTime(at, zone) : 'now'}
        name="Instant"
        onClick={(e) => {
          setText(writeLocal(Math.floor((at ? Date.parse(at) : nowMs()) / 1000) * 1000, zone));
          setAnchor(e);
        }}
      />
      <Popover
        anchorEl={anchor}
        open={anchor !== null}
        onClose={() => setAnchor(null)}
        anchorOrigin={{ vertical: 'bottom', horizontal: 'left' }}
      >
        <Box
          component="form"
          role="dialog"
          aria-label="Instant"
          onSubmit={(e) => {
            e.preventDefault();
            take();
          }}
          sx={{ p: 2, display: 'flex', gap: 1, alignItems: 'flex-start' }}
        >
          <TextField
            label={`Instant, local time (${zone}) or UTC`}
            value={text}
            onChange={(e) => setText(e.target.value)}
            error={ms === null || future}
            helperText={
              ms === null
                ? 'Write it as 2026-11-23 07:40 or 2026-11-23T06:40:00Z'
                : future
                  ? 'Lies in the future'
                  : utc(ms)
            }
            sx={{ width: 300 }}
          />
          <Button type="submit" variant="contained" disabled={ms === null || future}>
            Suppose
          </Button>
          <Button
            onClick={() => {
              setAnchor(null);
              onPick(null);
            }}
          >
            Now
          </Button>
        </Box>
      </Popover>
    </>
  );
}
