import 'antd/dist/reset.css'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { App as AntApp, ConfigProvider } from 'antd'
import { StrictMode, useSyncExternalStore } from 'react'
import { createRoot } from 'react-dom/client'
import { BrowserRouter } from 'react-router'
import { App } from './App'
import { Refusal } from './api/client'
import { dark, light } from './theme'

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 2000,
      retry: (failed, error) =>
        failed < 2 &&
        !(error instanceof Refusal && error.problem.status >= 400 && error.problem.status < 500),
    },
  },
})

const media = (query: string) => {
  const list = matchMedia(query)
  return {
    subscribe: (tell: () => void) => {
      list.addEventListener('change', tell)
      return () => list.removeEventListener('change', tell)
    },
    now: () => list.matches,
  }
}
const wantsDark = media('(prefers-color-scheme: dark)')
const wantsCalm = media('(prefers-reduced-motion: reduce)')

function Themed() {
  const isDark = useSyncExternalStore(wantsDark.subscribe, wantsDark.now)
  const isCalm = useSyncExternalStore(wantsCalm.subscribe, wantsCalm.now)
  const chosen = isDark ? dark : light
  return (
    <ConfigProvider theme={{ ...chosen, token: { ...chosen.token, motion: !isCalm } }}>
      <AntApp>
        <App />
      </AntApp>
    </ConfigProvider>
  )
}

createRoot(document.getElementById('root') as HTMLElement).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <BrowserRouter>
        <Themed />
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
)
