import '@fontsource-variable/commissioner'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { Speaking } from './personal/language'
import { YourSignature } from './personal/YourSignature'

// The page that people reach by their personal link: apart from the console, of which it loads nothing.
const root = document.getElementById('root')
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider
        client={new QueryClient({ defaultOptions: { queries: { retry: false, refetchOnWindowFocus: false } } })}
      >
        <Speaking>
          <YourSignature />
        </Speaking>
      </QueryClientProvider>
    </StrictMode>,
  )
}
