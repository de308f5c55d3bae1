import { QueryCache, QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { createBrowserRouter, RouterProvider } from 'react-router'
import './base.css'
import { Problem } from './api/client'
import { retry } from './api/hooks'
import { Broken } from './pages/broken'
import { carryNonce } from './parts/nonce'
import { applyKeptTheme } from './parts/theme'

applyKeptTheme()
carryNonce()

const client = new QueryClient({
  queryCache: new QueryCache({
    onError: (error, query) => {
      if (error instanceof Problem && error.status === 401 && query.queryKey[0] !== 'me') void client.invalidateQueries({ queryKey: ['me'] })
    },
  }),
  defaultOptions: { queries: { retry, retryDelay: 500, refetchOnWindowFocus: false } },
})

const router = createBrowserRouter([
  { path: '/sign-in', lazy: async () => ({ Component: (await import('./pages/sign-in/sign-in')).SignIn }), HydrateFallback: () => null },
  { path: '/first-user', lazy: async () => ({ Component: (await import('./pages/sign-in/first-user')).FirstUser }), HydrateFallback: () => null },
  {
    lazy: async () => ({ Component: (await import('./pages/signed')).Signed }),
    ErrorBoundary: Broken,
    HydrateFallback: () => null,
    children: [
      { path: '/', lazy: async () => ({ Component: (await import('./pages/today/today')).Today }) },
      { path: '/domains', lazy: async () => ({ Component: (await import('./pages/domains/domains')).Domains }) },
      { path: '/findings', lazy: async () => ({ Component: (await import('./pages/findings')).FindingsPage }) },
      {
        path: '/domains/:name',
        lazy: async () => ({ Component: (await import('./pages/domain/domain')).DomainPage }),
        children: [
          { index: true, lazy: async () => ({ Component: (await import('./pages/domain/chain')).Chain }) },
          { path: 'records', lazy: async () => ({ Component: (await import('./pages/domain/records/records')).Records }) },
          { path: 'history', lazy: async () => ({ Component: (await import('./pages/domain/history/history')).History }) },
          { path: 'changes', lazy: async () => ({ Component: (await import('./pages/domain/changes')).Changes }) },
          { path: 'handover', lazy: async () => ({ Component: (await import('./pages/domain/handover/handover')).HandoverPage }) },
          { path: 'delegation', lazy: async () => ({ Component: (await import('./pages/domain/delegation/delegation')).Delegation }) },
        ],
      },
      { path: '/domains/:name/report', lazy: async () => ({ Component: (await import('./pages/domain/printed')).Printed }) },
      { path: '/domains/:name/handover/report', lazy: async () => ({ Component: (await import('./pages/domain/handover/printed')).PrintedHandover }) },
      { path: '/handovers', lazy: async () => ({ Component: (await import('./pages/handovers/handovers')).Handovers }) },
      { path: '/search', lazy: async () => ({ Component: (await import('./pages/search/search')).Search }) },
      { path: '/hosts', lazy: async () => ({ Component: (await import('./pages/hosts/hosts')).Hosts }) },
      { path: '/locations/:location', lazy: async () => ({ Component: (await import('./pages/hosts/location')).LocationPage }) },
      { path: '/hosts/:name', lazy: async () => ({ Component: (await import('./pages/hosts/host-detail')).HostPage }) },
      { path: '/accounts', lazy: async () => ({ Component: (await import('./pages/accounts/accounts')).Accounts }) },
      { path: '/add', lazy: async () => ({ Component: (await import('./pages/add/add')).Add }) },
      { path: '/apply', lazy: async () => ({ Component: (await import('./pages/apply/apply')).Apply }) },
      { path: '/users', lazy: async () => ({ Component: (await import('./pages/users/users')).Users }) },
      { path: '/tokens', lazy: async () => ({ Component: (await import('./pages/tokens/tokens')).Tokens }) },
      { path: '/logbook', lazy: async () => ({ Component: (await import('./pages/logbook/logbook')).Logbook }) },
      { path: '*', lazy: async () => ({ Component: (await import('./pages/not-here')).NotHere }) },
    ],
  },
])

createRoot(document.getElementById('root')!).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <RouterProvider router={router} />
    </QueryClientProvider>
  </StrictMode>,
)
