import '@fontsource-variable/commissioner'
import CssBaseline from '@mui/material/CssBaseline'
import { ThemeProvider } from '@mui/material/styles'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { SignIn } from './access/SignIn'
import { theme } from './theme'

// The page that those see who have not signed in: apart from the console, of which it loads nothing.
const root = document.getElementById('root')
if (root) {
  createRoot(root).render(
    <StrictMode>
      <ThemeProvider theme={theme} defaultMode="system">
        <CssBaseline />
        <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>
          <SignIn />
        </QueryClientProvider>
      </ThemeProvider>
    </StrictMode>,
  )
}
