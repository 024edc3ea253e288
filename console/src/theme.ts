import { createTheme } from '@mui/material/styles'

// Ink on letter paper, with the red of sealing wax: the console's own palette.
export const theme = createTheme({
  cssVariables: { colorSchemeSelector: 'data-scheme' },
  colorSchemes: {
    light: {
      palette: {
        primary: { main: '#7a2e3a' },
        secondary: { main: '#2f4858' },
        info: { main: '#2f4858' },
        error: { main: '#a3212b' },
        warning: { main: '#8a5300' },
        success: { main: '#2c6143' },
        background: { default: '#f8f4ec', paper: '#fffdf8' },
        text: { primary: '#26211d', secondary: '#665c53' },
        divider: '#dcd2c3',
      },
    },
    dark: {
      palette: {
        primary: { main: '#e59aa4' },
        secondary: { main: '#a8c3d3' },
        info: { main: '#a8c3d3' },
        error: { main: '#f2999a' },
        warning: { main: '#e4b169' },
        success: { main: '#94c9a9' },
        background: { default: '#1d1a18', paper: '#262220' },
        text: { primary: '#f1e9de', secondary: '#b8aca0' },
        divider: '#463e38',
      },
    },
  },
  typography: {
    fontFamily: '"Commissioner Variable", system-ui, sans-serif',
    fontSize: 14.5,
    h1: { fontSize: '1.9rem', fontWeight: 620, letterSpacing: '-0.015em' },
    h2: { fontSize: '1.15rem', fontWeight: 620 },
    button: { textTransform: 'none', fontWeight: 560 },
  },
  shape: { borderRadius: 3 },
  components: {
    MuiCssBaseline: {
      styleOverrides: {
        '@media (prefers-reduced-motion: reduce)': {
          '*, *::before, *::after': { transition: 'none !important', animation: 'none !important' },
        },
      },
    },
    MuiButton: { defaultProps: { disableElevation: true } },
    MuiPaper: { styleOverrides: { root: { backgroundImage: 'none' } } },
    MuiTableCell: {
      styleOverrides: { root: { borderColor: 'var(--mui-palette-divider)' }, head: { fontWeight: 600 } },
    },
    MuiToggleButton: { styleOverrides: { root: { color: 'var(--mui-palette-text-secondary)' } } },
    MuiTooltip: { defaultProps: { arrow: true } },
  },
})

export const codeFont = '"Source Code Pro Variable", monospace'
