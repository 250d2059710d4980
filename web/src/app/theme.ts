import { createTheme } from '@mui/material/styles';

declare module '@mui/material/styles' {
  interface Palette {
    verdict: Verdicts;
    line: string;
  }
  interface PaletteOptions {
    verdict: Verdicts;
    line: string;
  }
}

interface Verdicts {
  proven: string;
  unproven: string;
  atRisk: string;
  breached: string;
  unprotected: string;
}

const mono = '"Martian Mono Variable", ui-monospace, monospace';

/** Warm stone, ink, one accent. Verdicts have a colour each, but their shape and word say it too. */
export const theme = createTheme({
  cssVariables: { colorSchemeSelector: 'data-scheme' },
  colorSchemes: {
    light: {
      palette: {
        background: { default: '#F3F0E9', paper: '#FCFAF5' },
        text: { primary: '#1F2A30', secondary: '#4C585E' },
        primary: { main: '#1F6F66' },
        error: { main: '#9E3526' },
        warning: { main: '#8A580F' },
        divider: '#D9D3C6',
        line: '#B9B1A0',
        verdict: {
          proven: '#1F6F66',
          unproven: '#4A6076',
          atRisk: '#8A580F',
          breached: '#9E3526',
          unprotected: '#9E3526',
        },
      },
    },
    dark: {
      palette: {
        background: { default: '#14191C', paper: '#1B2226' },
        text: { primary: '#E8E3D8', secondary: '#AEB6B5' },
        primary: { main: '#6FC0B4' },
        error: { main: '#EC8F7E' },
        warning: { main: '#DDAA55' },
        divider: '#343D42',
        line: '#57636A',
        verdict: {
          proven: '#6FC0B4',
          unproven: '#A9BCD0',
          atRisk: '#DDAA55',
          breached: '#EC8F7E',
          unprotected: '#EC8F7E',
        },
      },
    },
  },
  shape: { borderRadius: 4 },
  typography: {
    fontFamily: '"Public Sans Variable", system-ui, sans-serif',
    fontSize: 13,
    h1: { fontSize: 22, fontWeight: 650, letterSpacing: '-0.01em' },
    h2: { fontSize: 15, fontWeight: 650 },
    h3: { fontSize: 13, fontWeight: 650 },
    button: { textTransform: 'none', fontWeight: 600 },
  },
  components: {
    MuiCssBaseline: {
      styleOverrides: {
        body: { fontVariantNumeric: 'tabular-nums', fontSize: 13, lineHeight: 1.45 },
        'code, .mono': { fontFamily: mono, fontSize: '0.85em' },
        ':focus-visible': { outline: '2px solid var(--mui-palette-primary-main)', outlineOffset: 2 },
        a: { color: 'inherit' },
        '@media (prefers-reduced-motion: reduce)': {
          '*': { transition: 'none !important', animation: 'none !important' },
        },
      },
    },
    MuiButtonBase: { defaultProps: { disableRipple: true } },
    MuiButton: { defaultProps: { disableElevation: true, size: 'small' } },
    MuiPaper: { defaultProps: { elevation: 0 }, styleOverrides: { root: { backgroundImage: 'none' } } },
    MuiTextField: { defaultProps: { size: 'small' } },
    MuiFormControlLabel: { styleOverrides: { label: { fontSize: 13 } } },
    MuiInputBase: {
      styleOverrides: {
        root: { fontSize: 13 },
        input: { '&.MuiInputBase-input': { paddingTop: 6, paddingBottom: 6 } },
      },
    },
    MuiInputLabel: {
      styleOverrides: { root: { fontSize: 13, '&[data-shrink=false]': { transform: 'translate(12px, 7px)' } } },
    },
    MuiAutocomplete: {
      styleOverrides: { inputRoot: { paddingTop: '1px !important', paddingBottom: '1px !important', minHeight: 31 } },
    },
    MuiToggleButton: {
      styleOverrides: {
        root: {
          color: 'var(--mui-palette-text-secondary)',
          '&.Mui-selected': { color: 'var(--mui-palette-text-primary)' },
        },
      },
    },
    MuiMenuItem: { styleOverrides: { root: { fontSize: 13, minHeight: 30 } } },
    MuiAlert: { styleOverrides: { root: { padding: '4px 12px', fontSize: 13 } } },
    MuiTooltip: { defaultProps: { arrow: false }, styleOverrides: { tooltip: { fontSize: 12, maxWidth: 420 } } },
    MuiTableCell: { styleOverrides: { root: { padding: '5px 8px', fontSize: 13 } } },
  },
});
