import '@fontsource-variable/commissioner'
import '@fontsource-variable/source-code-pro'
import CssBaseline from '@mui/material/CssBaseline'
import { ThemeProvider } from '@mui/material/styles'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { lazy, StrictMode, Suspense } from 'react'
import { createRoot } from 'react-dom/client'
import { createBrowserRouter, Navigate, RouterProvider } from 'react-router'
import { Refusal } from './api/api'
import { ClientsPage } from './pages/ClientsPage'
import { PackagesPage } from './pages/PackagesPage'
import { PageFailed } from './pages/PageFailed'
import { PeoplePage } from './people/PeoplePage'
import { Shell } from './pages/Shell'
import { TemplatesPage } from './pages/TemplatesPage'
import { theme } from './theme'

// The editor is the largest part of the console: other pages do not wait for it.
const WorkbenchPage = lazy(() => import('./workbench/WorkbenchPage').then((m) => ({ default: m.WorkbenchPage })))
const PersonPage = lazy(() => import('./people/PersonPage').then((m) => ({ default: m.PersonPage })))
const FaultsPage = lazy(() => import('./people/FaultsPage').then((m) => ({ default: m.FaultsPage })))
const AudiencesPage = lazy(() => import('./people/AudiencesPage').then((m) => ({ default: m.AudiencesPage })))
const AssignmentsPage = lazy(() => import('./people/AssignmentsPage').then((m) => ({ default: m.AssignmentsPage })))
const SourcesPage = lazy(() => import('./people/SourcesPage').then((m) => ({ default: m.SourcesPage })))
const RunsPage = lazy(() => import('./people/RunsPage').then((m) => ({ default: m.RunsPage })))
const InvitationsPage = lazy(() => import('./people/InvitationsPage').then((m) => ({ default: m.InvitationsPage })))
const RunPage = lazy(() => import('./people/RunsPage').then((m) => ({ default: m.RunPage })))
const ReleasesPage = lazy(() => import('./releases/ReleasesPage').then((m) => ({ default: m.ReleasesPage })))
const ReleasePage = lazy(() => import('./releases/ReleasePage').then((m) => ({ default: m.ReleasePage })))
const DesksPage = lazy(() => import('./releases/DesksPage').then((m) => ({ default: m.DesksPage })))
const AddOnPage = lazy(() => import('./addon/AddOnPage').then((m) => ({ default: m.AddOnPage })))
const RulesPage = lazy(() => import('./mail/RulesPage').then((m) => ({ default: m.RulesPage })))
const TryPage = lazy(() => import('./mail/TryPage').then((m) => ({ default: m.TryPage })))
const RehearsalPage = lazy(() => import('./mail/RehearsalPage').then((m) => ({ default: m.RehearsalPage })))
const MessagesPage = lazy(() => import('./mail/MessagesPage').then((m) => ({ default: m.MessagesPage })))
const OrganisationPage = lazy(() => import('./access/OrganisationPage').then((m) => ({ default: m.OrganisationPage })))
const AccountsPage = lazy(() => import('./access/AccountsPage').then((m) => ({ default: m.AccountsPage })))
const KeysPage = lazy(() => import('./access/KeysPage').then((m) => ({ default: m.KeysPage })))
const RecordPage = lazy(() => import('./access/RecordPage').then((m) => ({ default: m.RecordPage })))
const AccountPage = lazy(() => import('./access/AccountPage').then((m) => ({ default: m.AccountPage })))
const PicturesPage = lazy(() => import('./pictures/PicturesPage').then((m) => ({ default: m.PicturesPage })))
const PicturePage = lazy(() => import('./pictures/PicturePage').then((m) => ({ default: m.PicturePage })))

const router = createBrowserRouter([
  {
    path: '/',
    element: <Shell />,
    children: [
      {
        errorElement: <PageFailed />,
        children: [
          { index: true, element: <Navigate to="/templates" replace /> },
          { path: 'templates', element: <TemplatesPage /> },
          {
            path: 'templates/:name',
            element: (
              <Suspense fallback={<p>Opening the workbench ...</p>}>
                <WorkbenchPage />
              </Suspense>
            ),
          },
          { path: 'people', element: <PeoplePage /> },
          ...[
            { path: 'people/who/:mail', element: <PersonPage /> },
            { path: 'people/faults', element: <FaultsPage /> },
            { path: 'people/audiences', element: <AudiencesPage /> },
            { path: 'people/assignments', element: <AssignmentsPage /> },
            { path: 'people/sources', element: <SourcesPage /> },
            { path: 'people/runs', element: <RunsPage /> },
            { path: 'people/invitations', element: <InvitationsPage /> },
            { path: 'people/runs/:id', element: <RunPage /> },
            { path: 'releases', element: <ReleasesPage /> },
            { path: 'releases/:id', element: <ReleasePage /> },
            { path: 'desks', element: <DesksPage /> },
            { path: 'desks/add-on', element: <AddOnPage /> },
            { path: 'mail', element: <Navigate to="/mail/rules" replace /> },
            { path: 'mail/rules', element: <RulesPage /> },
            { path: 'mail/try', element: <TryPage /> },
            { path: 'mail/rehearsal', element: <RehearsalPage /> },
            { path: 'mail/messages', element: <MessagesPage /> },
            { path: 'settings', element: <Navigate to="/settings/organisation" replace /> },
            { path: 'settings/organisation', element: <OrganisationPage /> },
            { path: 'settings/accounts', element: <AccountsPage /> },
            { path: 'settings/keys', element: <KeysPage /> },
            { path: 'settings/record', element: <RecordPage /> },
            { path: 'account', element: <AccountPage /> },
          ].map((page) => ({
            ...page,
            element: <Suspense fallback={<p>Opening the page ...</p>}>{page.element}</Suspense>,
          })),
          {
            path: 'pictures',
            element: (
              <Suspense fallback={<p>Opening the pictures ...</p>}>
                <PicturesPage />
              </Suspense>
            ),
          },
          {
            path: 'pictures/:name',
            element: (
              <Suspense fallback={<p>Opening the picture ...</p>}>
                <PicturePage />
              </Suspense>
            ),
          },
          { path: 'clients', element: <ClientsPage /> },
          { path: 'packages', element: <PackagesPage /> },
          { path: '*', element: <Navigate to="/templates" replace /> },
        ],
      },
    ],
  },
])

// A refusal stays a refusal however often it is asked for; only silence is worth another try.
const queries = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (count, error) => count < 2 && error instanceof Refusal && error.status === 0,
      refetchOnWindowFocus: false,
    },
  },
})

const root = document.getElementById('root')
if (root) {
  createRoot(root).render(
    <StrictMode>
      <ThemeProvider theme={theme} defaultMode="system">
        <CssBaseline />
        <QueryClientProvider client={queries}>
          <RouterProvider router={router} />
        </QueryClientProvider>
      </ThemeProvider>
    </StrictMode>,
  )
}
