import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import LinearProgress from '@mui/material/LinearProgress'
import Link from '@mui/material/Link'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as RouterLink } from 'react-router'
import { Act, Lacking } from '../access/session'
import { api, type Source } from '../api/api'
import { grouped, Page, Trouble, when } from '../pages/parts'
import { PeopleHead } from './PeopleHead'
import { SourceForm } from './SourceForm'

const kinds: Record<Source['kind'], string> = {
  kept: 'what is known here only',
  file: 'files imported by hand',
  ldap: 'LDAP directory',
  folder: 'folder',
  web: 'https address',
  scim: 'pushed in (SCIM)',
}

const asked = (s: Source) => s.kind === 'ldap' || s.kind === 'folder' || s.kind === 'web'

/** Where people come from, and how each source gets on. */
export function SourcesPage() {
  const sources = useQuery({ queryKey: ['sources'], queryFn: api.sources, refetchInterval: 5000 })
  const [open, setOpen] = useState<Source | 'new'>()
  const failing = sources.data?.filter((s) => s.failure !== '') ?? []
  return (
    <Page wide>
      <PeopleHead
        title="Sources"
        actions={
          <Act needs="people" variant="contained" onClick={() => setOpen('new')}>
            New source
          </Act>
        }
      >
        Where people come from. Where several sources have a value, that of the first in this list counts.
      </PeopleHead>
      <Lacking permission="people">Changing sources</Lacking>
      <Trouble error={sources.error} />
      {failing.map((s) => (
        <Alert key={s.name} severity="error" variant="outlined" sx={{ mb: 1 }}>
          {s.name}: {s.failure} The directory is as it was
          {s.succeeded ? ` on ${when(s.succeeded)}` : ''}; it is tried again {s.next ? when(s.next) : 'on demand'}.
        </Alert>
      ))}
      <Table size="small" aria-label="Sources">
        <TableHead>
          <TableRow>
            <TableCell>Source</TableCell>
            <TableCell>Kind</TableCell>
            <TableCell align="right">Position</TableCell>
            <TableCell align="right">People</TableCell>
            <TableCell>State</TableCell>
            <TableCell>Read</TableCell>
            <TableCell>Next</TableCell>
            <TableCell />
          </TableRow>
        </TableHead>
        <TableBody>
          {sources.data?.map((s) => (
            <Row key={s.name} source={s} onOpen={() => setOpen(s)} />
          ))}
        </TableBody>
      </Table>
      {open && (
        <SourceForm
          key={open === 'new' ? 'new' : open.name}
          source={open === 'new' ? undefined : open}
          onClose={() => setOpen(undefined)}
        />
      )}
    </Page>
  )
}

function stateOf(s: Source): string {
  if (s.kind === 'kept' || s.kind === 'file' || s.kind === 'scim') return 'given'
  if (s.paused) return 'paused'
  if (s.failures > 0) return `${s.failures === 1 ? '1 failure' : `${s.failures} failures in a row`}`
  return s.tried ? 'well' : 'not asked yet'
}

function Row({ source: s, onOpen }: { source: Source; onOpen: () => void }) {
  const queries = useQueryClient()
  const [job, setJob] = useState('')
  const refresh = () => void queries.invalidateQueries()
  const sync = useMutation({ mutationFn: () => api.syncSource(s.name), onSuccess: (j) => setJob(j.id) })
  const pause = useMutation({
    mutationFn: () => (s.paused ? api.resumeSource(s.name) : api.pauseSource(s.name)),
    onSuccess: refresh,
  })
  const running = useQuery({
    queryKey: ['job', job],
    enabled: job !== '',
    queryFn: async () => {
      const now = await api.job(job)
      if (now.state !== 'waiting' && now.state !== 'running') {
        setJob('')
        refresh()
      }
      return now
    },
    refetchInterval: 500,
  })
  const stop = useMutation({ mutationFn: () => api.stopJob(job) })
  const run = /Run (\d+) is held/.exec(s.note)?.[1]
  return (
    <TableRow>
      <TableCell>
        {s.kind === 'kept' ? (
          'kept here'
        ) : (
          <Button size="small" onClick={onOpen} sx={{ minWidth: 0, px: 0.5 }}>
            {s.name}
          </Button>
        )}
      </TableCell>
      <TableCell>{kinds[s.kind]}</TableCell>
      <TableCell align="right">{s.position}</TableCell>
      <TableCell align="right">{grouped(s.people)}</TableCell>
      <TableCell>
        {stateOf(s)}
        {s.note && (
          <Typography variant="body2" color="warning.main">
            {run ? (
              <Link component={RouterLink} to={`/people/runs/${run}`}>
                {s.note}
              </Link>
            ) : (
              s.note
            )}
          </Typography>
        )}
        <Trouble error={sync.error ?? pause.error} />
      </TableCell>
      <TableCell>{s.succeeded ? when(s.succeeded) : '–'}</TableCell>
      <TableCell>{s.next ? when(s.next) : '–'}</TableCell>
      <TableCell align="right" sx={{ whiteSpace: 'nowrap' }}>
        {asked(s) && job === '' && (
          <>
            <Act needs="people" size="small" aria-label={`Ask ${s.name} now`} onClick={() => sync.mutate()}>
              Ask now
            </Act>
            <Act
              needs="people"
              size="small"
              aria-label={`${s.paused ? 'Resume' : 'Pause'} ${s.name}`}
              onClick={() => pause.mutate()}
            >
              {s.paused ? 'Resume' : 'Pause'}
            </Act>
          </>
        )}
        {job !== '' && (
          <Box sx={{ display: 'flex', alignItems: 'center', gap: 1, minWidth: 180 }}>
            <LinearProgress aria-label={`Reading ${s.name}`} sx={{ flex: 1 }} />
            {grouped(running.data?.done ?? 0)}
            <Act needs="people" size="small" onClick={() => stop.mutate()}>
              Stop
            </Act>
          </Box>
        )}
      </TableCell>
    </TableRow>
  )
}
