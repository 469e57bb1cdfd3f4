import './styles.css'
import { QueryClient, QueryClientProvider, replaceEqualDeep } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { BrowserRouter } from 'react-router'
import { App } from './App'
import { older } from './api/changes'
import { applyTheme } from './frame/theme'

applyTheme()
const client = new QueryClient({
  defaultOptions: {
    queries: {
      retry: 1,
      refetchOnWindowFocus: false,
      placeholderData: (previous: unknown) => previous,
      // No answer takes the place of a newer one, whichever arrives last.
      structuralSharing: (was: unknown, now: unknown) => (older(now, was) ? was : replaceEqualDeep(was, now)),
    },
  },
})

const root = document.getElementById('root')
if (!root) throw new Error('index.html has no element called root')
createRoot(root).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <BrowserRouter>
        <App />
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
)
