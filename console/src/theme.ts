import '@fontsource-variable/inter';
import { createTheme } from '@mui/material/styles';
import type { State } from './api';

export const theme = createTheme({
  cssVariables: { colorSchemeSelector: 'data-scheme' },
  colorSchemes: {
    light: {
      palette: {
        primary: { main: '#12707f' },
        background: { default: '#f4f3ee', paper: '#fffefb' },
        text: { primary: '#1e2a2c', secondary: '#56666a' },
        success: { main: '#3b7a3f' }, warning: { main: '#9a6209' }, info: { main: '#2f62a8' }, error: { main: '#b02a30' },
        divider: '#dcd9cf',
      },
    },
    dark: {
      palette: {
        primary: { main: '#6cc3cf' },
        background: { default: '#12181a', paper: '#1a2225' },
        text: { primary: '#e6ecec', secondary: '#9db0b4' },
        success: { main: '#7fc383' }, warning: { main: '#e0ad5a' }, info: { main: '#8db4ec' }, error: { main: '#f08a8c' },
        divider: '#2c383c',
      },
    },
  },
  shape: { borderRadius: 10 },
  typography: {
    fontFamily: '"Inter Variable", system-ui, sans-serif',
    h1: { fontSize: '1.5rem', fontWeight: 650, letterSpacing: '-0.015em', lineHeight: 1.3 },
    h2: { fontSize: '1.05rem', fontWeight: 650 },
    body2: { fontSize: '0.875rem' },
    button: { textTransform: 'none', fontWeight: 600 },
  },
  components: {
    MuiPaper: { defaultProps: { elevation: 0, variant: 'outlined' }, styleOverrides: { root: { backgroundImage: 'none' } } },
    MuiCssBaseline: { styleOverrides: { body: { fontVariantNumeric: 'tabular-nums' } } },
  },
});

// What a state looks like: its colour, its sign and its word.
export const looks: Record<State, { color: 'success' | 'warning' | 'info' | 'error'; sign: string; word: string }> = {
  'in sync': { color: 'success', sign: '✓', word: 'in sync' },
  'catching up': { color: 'warning', sign: '…', word: 'catching up' },
  filling: { color: 'info', sign: '↻', word: 'filling' },
  differs: { color: 'warning', sign: '≠', word: 'differs' },
  waiting: { color: 'warning', sign: '…', word: 'waiting' },
  blocked: { color: 'error', sign: '!', word: 'blocked' },
  empty: { color: 'info', sign: '○', word: 'nothing yet' },
};
