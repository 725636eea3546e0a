import '@fontsource/ibm-plex-mono/400.css'
import '@fontsource/ibm-plex-mono/500.css'
import '@fontsource/ibm-plex-sans/400.css'
import '@fontsource/ibm-plex-sans/500.css'
import '@fontsource/ibm-plex-sans/600.css'
import './index.css'

import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { BrowserRouter } from 'react-router'

import { App } from './app'
import { base } from './moment'
import { HintProvider } from './parts/hint'
import { Notices } from './parts/notice'
import { begin } from './store'
import { apply } from './theme'

apply()
void begin()
const queries = new QueryClient()
const root = document.getElementById('root')
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <HintProvider delayDuration={300}>
          <Notices>
            <BrowserRouter basename={base}>
              <App />
            </BrowserRouter>
          </Notices>
        </HintProvider>
      </QueryClientProvider>
    </StrictMode>,
  )
}
