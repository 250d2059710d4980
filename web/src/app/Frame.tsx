import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Menu from '@mui/material/Menu';
import MenuItem from '@mui/material/MenuItem';
import { useColorScheme } from '@mui/material/styles';
import { useIsFetching, useQueryClient } from '@tanstack/react-query';
import { lazy, Suspense, useRef, useState, type ReactNode } from 'react';
import { Link, useLocation } from 'react-router';
import { api, setToken } from '../api/client';
import { localTime, utc } from '../shared/format';
import { areas } from './areas';
import { FindField } from './FindField';
import { KeysHelp } from './KeysHelp';
import { useClock, useLiveUpdates } from './live';
import { useZone } from './places';
import { PremiseLine } from './PremiseLine';
import { withPremise } from './premise';
import { useMe } from './session';
import { useKeys } from './useKeys';

const PasswordDialog = lazy(() =>
  import('../features/people/PasswordDialog').then((m) => ({ default: m.PasswordDialog })),
);

/** Head, premise line, page. */
export function Frame({ children }: { children: ReactNode }) {
  useLiveUpdates();
  const find = useRef<HTMLInputElement>(null);
  const [help, setHelp] = useState(false);
  useKeys({ find: () => find.current?.focus(), help: () => setHelp(true) });
  const { pathname, search } = useLocation();
  const loading = useIsFetching({ predicate: (q) => q.state.status === 'pending' }) > 0;
  return (
    <Box
      sx={{
        display: 'grid',
        gridTemplateColumns: 'minmax(0, 1fr)',
        gridTemplateRows: '52px minmax(40px, auto) minmax(0, 1fr)',
        height: '100dvh',
      }}
    >
      <Box
        component="header"
        sx={{
          display: 'flex',
          alignItems: 'center',
          gap: { xs: 1, lg: 2.5 },
          px: 2,
          borderBottom: 1,
          borderColor: 'divider',
          bgcolor: 'background.paper',
        }}
      >
        <Box
          component={Link}
          to={withPremise('/fleet', search)}
          sx={{ display: 'flex', alignItems: 'center', gap: 1, textDecoration: 'none', fontWeight: 700, fontSize: 16 }}
        >
          <Mark />
          Imbrek
        </Box>
        <Box
          component="nav"
          aria-label="Areas"
          sx={{ display: 'flex', gap: 0.5, overflowX: { xs: 'auto', md: 'visible' } }}
        >
          {areas.map((a) => {
            const here = a.matches(pathname);
            return (
              <Box
                key={a.path}
                component={Link}
                to={withPremise(a.path, search)}
                aria-current={here ? 'page' : undefined}
                sx={{
                  px: 1.25,
                  py: 1.5,
                  textDecoration: 'none',
                  fontWeight: here ? 650 : 450,
                  borderBottom: '3px solid',
                  borderColor: here ? 'primary.main' : 'transparent',
                  '&:hover': { borderColor: 'line' },
                }}
              >
                {a.word}
              </Box>
            );
          })}
        </Box>
        <Box sx={{ flex: 1, display: { xs: 'none', md: 'flex' }, justifyContent: 'center', minWidth: 120 }}>
          <FindField inputRef={find} />
        </Box>
        <ClockFace />
        <PersonMenu onHelp={() => setHelp(true)} />
      </Box>
      <PremiseLine />
      <Box component="main" aria-busy={loading} sx={{ minHeight: 0, overflow: 'auto' }}>
        {children}
      </Box>
      <KeysHelp open={help} onClose={() => setHelp(false)} />
    </Box>
  );
}

function Mark() {
  return (
    <svg width="22" height="22" viewBox="0 0 24 24" aria-hidden>
      <path fill="var(--mui-palette-primary-main)" d="M1 16h10v5H1z" opacity=".5" />
      <path fill="var(--mui-palette-primary-main)" d="M7 10h10v8H7z" opacity=".75" />
      <path fill="var(--mui-palette-primary-main)" d="M13 3h10v11H13z" />
    </svg>
  );
}

function ClockFace() {
  const clock = useClock();
  const zone = useZone();
  if (!clock) return null;
  const pace = !clock.demo
    ? ''
    : clock.pace === 0
      ? 'paused'
      : clock.pace === 1
        ? 'real pace'
        : `${clock.pace} times as fast`;
  return (
    <Box
      sx={{ display: { xs: 'none', md: 'block' }, textAlign: 'right', lineHeight: 1.25, whiteSpace: 'nowrap' }}
      title={utc(clock.now)}
    >
      <Box data-testid="clock" sx={{ fontWeight: 600 }}>
        {localTime(clock.now, zone)}
      </Box>
      <Box sx={{ fontSize: 11.5, color: 'text.secondary' }}>
        {zone.split('/').pop()?.replace('_', ' ')}
        {pace && ` · demo world, ${pace}`}
      </Box>
    </Box>
  );
}

function PersonMenu({ onHelp }: { onHelp: () => void }) {
  const me = useMe();
  const queries = useQueryClient();
  const { mode, setMode } = useColorScheme();
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  const [password, setPassword] = useState(false);
  const leave = async () => {
    await api.POST('/api/sign-out');
    setToken('');
    queries.clear();
    location.assign('/');
  };
  return (
    <>
      <Button color="inherit" onClick={(e) => setAnchor(e.currentTarget)} aria-haspopup="menu">
        {me.displayName}
      </Button>
      <Menu anchorEl={anchor} open={anchor !== null} onClose={() => setAnchor(null)}>
        {(['light', 'dark', 'system'] as const).map((m) => (
          <MenuItem key={m} selected={mode === m} onClick={() => setMode(m)}>
            {m === 'system' ? 'As the system: light or dark' : m === 'light' ? 'Light' : 'Dark'}
          </MenuItem>
        ))}
        <MenuItem
          onClick={() => {
            setAnchor(null);
            onHelp();
          }}
        >
          Keys
        </MenuItem>
        <MenuItem
          onClick={() => {
            setAnchor(null);
            setPassword(true);
          }}
        >
          Change your password
        </MenuItem>
        <MenuItem onClick={() => void leave()}>Sign out</MenuItem>
      </Menu>
      {password && (
        <Suspense fallback={null}>
          <PasswordDialog onClose={() => setPassword(false)} />
        </Suspense>
      )}
    </>
  );
}
