import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import MenuItem from '@mui/material/MenuItem'
import Pagination from '@mui/material/Pagination'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useDeferredValue, useState } from 'react'
import { Link as RouterLink, useNavigate, useParams } from 'react-router'
import { Act } from '../access/session'
import { api, type ChangeKind, type Run } from '../api/api'
import { count, grouped, Page, Trouble, when } from '../pages/parts'
import { PeopleHead } from './PeopleHead'
import { ChangeList, RunFacts } from './runs'

const states: Record<Run['state'], string> = {
  planned: 'planned: waits for you',
  held: 'held: waits for you',
  applied: 'applied',
  undone: 'undone',
  dropped: 'dropped',
}

/** What imports and synchronisations changed, newest first. */
export function RunsPage() {
  const runs = useQuery({ queryKey: ['runs'], queryFn: () => api.runs() })
  return (
    <Page>
      <PeopleHead title="Runs">
        Each import and each synchronisation is a plan first and then a run. It can be looked at, and taken back.
      </PeopleHead>
      <Trouble error={runs.error} />
      <Table size="small" aria-label="Runs">
        <TableHead>
          <TableRow>
            {['Run', 'Planned', 'Source', 'State'].map((h) => (
              <TableCell key={h}>{h}</TableCell>
            ))}
            {['New', 'Joined', 'Changed', 'Gone', 'Back', 'Skipped'].map((h) => (
              <TableCell key={h} align="right">
                {h}
              </TableCell>
            ))}
            <TableCell>By</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {runs.data?.map((run) => (
            <TableRow key={run.id}>
              <TableCell>
                <Link component={RouterLink} to={`/people/runs/${run.id}`}>
                  {run.kind} {run.id}
                </Link>
              </TableCell>
              <TableCell>{when(run.planned)}</TableCell>
              <TableCell>{run.source}</TableCell>
              <TableCell sx={{ fontWeight: run.state === 'held' || run.state === 'planned' ? 620 : 400 }}>
                {states[run.state]}
                {run.undoes > 0 && `, takes run ${run.undoes} back`}
              </TableCell>
              {[run.new, run.joined, run.changed, run.gone, run.back, run.skipped].map((n, i) => (
                <TableCell key={i} align="right">
                  {grouped(n)}
                </TableCell>
              ))}
              <TableCell>{run.by}</TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      {runs.data?.length === 0 && <Typography sx={{ mt: 2 }}>Nothing was imported yet.</Typography>}
    </Page>
  )
}

const size = 100

/** One run: what it does, person by person, and what can be done with it. */
export function RunPage() {
  const id = Number(useParams().id)
  const queries = useQueryClient()
  const navigate = useNavigate()
  const [search, setSearch] = useState('')
  const [kind, setKind] = useState<ChangeKind | ''>('')
  const [page, setPage] = useState(1)
  const text = useDeferredValue(search)
  const run = useQuery({ queryKey: ['run', id], queryFn: () => api.run(id) })
  const changes = useQuery({
    queryKey: ['run', id, 'changes', text, kind, page],
    queryFn: () =>
      api.runChanges(id, { search: text, ...(kind ? { kind } : {}), offset: (page - 1) * size, limit: size }),
    placeholderData: keepPreviousData,
  })
  const act = useMutation({
    mutationFn: (step: 'apply' | 'confirm' | 'drop' | 'undo') =>
      step === 'drop' ? api.dropRun(id) : step === 'undo' ? api.undoRun(id) : api.applyRun(id, step === 'confirm'),
    onSuccess: (made) => {
      void queries.invalidateQueries()
      if (made.id !== id) void navigate(`/people/runs/${made.id}`)
    },
  })
  const waits = run.data?.state === 'planned' || run.data?.state === 'held'
  return (
    <Page>
      <PeopleHead
        title={`Run ${id}`}
        actions={
          run.data && (
            <>
              {waits && (
                <>
                  <Act needs="people" onClick={() => act.mutate('drop')}>
                    Drop it
                  </Act>
                  <Act
                    needs="people"
                    variant="contained"
                    disabled={act.isPending}
                    onClick={() => act.mutate(run.data.state === 'held' ? 'confirm' : 'apply')}
                  >
                    {run.data.state === 'held' ? 'Confirm and apply' : 'Apply'}
                  </Act>
                </>
              )}
              {run.data.state === 'applied' && run.data.kind !== 'undo' && (
                <Act needs="people" variant="outlined" disabled={act.isPending} onClick={() => act.mutate('undo')}>
                  Undo this run
                </Act>
              )}
              <Button
                variant="outlined"
                href={`/api/v1/runs/${id}/changes?${new URLSearchParams({ search: text, kind, format: 'csv' })}`}
              >
                Save as CSV
              </Button>
            </>
          )
        }
      >
        {run.data &&
          `${run.data.kind} of ${run.data.source}, planned ${when(run.data.planned)} by ${run.data.by}; ${states[run.data.state]}` +
            (run.data.applied ? `, ${when(run.data.applied)}` : '') +
            (run.data.undoes ? `. It takes run ${run.data.undoes} back.` : '.')}
      </PeopleHead>
      <Trouble error={run.error ?? changes.error ?? act.error} />
      {run.data && (
        <Box sx={{ display: 'flex', flexDirection: 'column', gap: 1.5, mb: 2 }}>
          <RunFacts run={run.data} />
        </Box>
      )}
      <Box sx={{ display: 'flex', gap: 1.5, mb: 1.5, alignItems: 'center' }}>
        <TextField
          size="small"
          type="search"
          label="Search"
          value={search}
          onChange={(e) => {
            setSearch(e.target.value)
            setPage(1)
          }}
        />
        <TextField
          select
          size="small"
          label="Kind"
          value={kind}
          sx={{ minWidth: 130 }}
          onChange={(e) => {
            setKind(e.target.value as ChangeKind | '')
            setPage(1)
          }}
        >
          <MenuItem value="">every kind</MenuItem>
          {(['new', 'joined', 'changed', 'gone', 'back'] as const).map((k) => (
            <MenuItem key={k} value={k}>
              {k}
            </MenuItem>
          ))}
        </TextField>
        {changes.data && <Typography>{count(changes.data.total, 'change', 'changes')}</Typography>}
      </Box>
      {changes.data && (
        <>
          <ChangeList changes={changes.data.changes} height="none" />
          {changes.data.total > size && (
            <Pagination
              sx={{ mt: 2 }}
              count={Math.ceil(changes.data.total / size)}
              page={page}
              onChange={(_, to) => setPage(to)}
            />
          )}
        </>
      )}
    </Page>
  )
}
