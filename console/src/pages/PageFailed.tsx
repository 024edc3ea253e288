import Alert from '@mui/material/Alert'
import Button from '@mui/material/Button'
import Typography from '@mui/material/Typography'
import { useQueryClient } from '@tanstack/react-query'
import { useLocation, useNavigate, useRouteError } from 'react-router'
import { Page } from './parts'

/** What is shown in the place of a page that failed: the frame around it and unsaved work are still there. */
export function PageFailed() {
  const error = useRouteError()
  const navigate = useNavigate()
  const { pathname, search } = useLocation()
  const queries = useQueryClient()
  const again = () => {
    queries.clear() // what was answered may be what the page failed at
    void navigate(pathname + search, { replace: true })
  }
  return (
    <Page>
      <Alert severity="error" variant="outlined" sx={{ my: 1 }}>
        <Typography component="h1" variant="h2">
          This page failed
        </Typography>
        <p>
          That is a fault of Missivum. What you changed and did not save is kept: open the page again and it is there.
        </p>
        <p>
          <code>{error instanceof Error ? error.message : String(error)}</code>
        </p>
        <Button variant="contained" onClick={again}>
          Open the page again
        </Button>
      </Alert>
    </Page>
  )
}
