import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { Tooltip } from 'radix-ui'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { BrowserRouter, Route, Routes } from 'react-router'

import { Refused } from './data/api'
import { AppPage } from './pages/AppPage'
import { FindingsPage } from './pages/FindingsPage'
import { Frame } from './pages/Frame'
import { OverviewPage } from './pages/OverviewPage'
import { PackagePage, PackagesPage } from './pages/PackagesPage'
import { RegisterPage } from './pages/RegisterPage'
import { RegistrationPage } from './pages/RegistrationPage'
import { ServicePage, ServicesPage } from './pages/ServicesPage'
import { SignInPage } from './pages/SignInPage'
import './style.css'

const client = new QueryClient({
  defaultOptions: {
    queries: {
      // A refusal stays a refusal; a server that is away comes back.
      retry: (tries, error) => tries < 3 && !(error instanceof Refused && error.problem.status < 500),
      staleTime: 5_000,
    },
  },
})

const root = document.getElementById('root')
if (!root) throw new Error('the page has no root element')
createRoot(root).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <Tooltip.Provider delayDuration={200}>
        <BrowserRouter>
          <Routes>
            <Route path="/sign-in" element={<SignInPage />} />
            <Route element={<Frame />}>
              <Route index element={<OverviewPage />} />
              <Route path="/apps/:app" element={<AppPage />} />
              <Route path="/apps/:app/findings" element={<FindingsPage />} />
              <Route path="/apps/:app/register/:service" element={<RegisterPage />} />
              <Route path="/registrations/:id" element={<RegistrationPage />} />
              <Route path="/packages" element={<PackagesPage />} />
              <Route path="/packages/:id" element={<PackagePage />} />
              <Route path="/services" element={<ServicesPage />} />
              <Route path="/services/:service" element={<ServicePage />} />
              <Route path="*" element={<p className="py-16 text-center text-soft">There is no such page.</p>} />
            </Route>
          </Routes>
        </BrowserRouter>
      </Tooltip.Provider>
    </QueryClientProvider>
  </StrictMode>,
)
