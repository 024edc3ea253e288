import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import Link from '@mui/material/Link'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as RouterLink, useNavigate } from 'react-router'
import { Act, Lacking } from '../access/session'
import { api, type Release } from '../api/api'
import { count, Page, PageHead, Trouble, when } from '../pages/parts'
import { ActingField, useActing } from './acting'
import { StateMark } from './states'

/** All releases, and a new one. */
export function ReleasesPage() {
  const releases = useQuery({
    queryKey: ['releases'],
    queryFn: api.releases,
    refetchInterval: (q) => (q.state.data?.some((r) => r.state === 'draft') ? 800 : false),
  })
  const endings = useQuery({ queryKey: ['endings'], queryFn: api.endings })
  const [making, setMaking] = useState(false)
  return (
    <Page>
      <PageHead
        title="Releases"
        actions={
          !making && (
            <Act needs="releases" variant="contained" onClick={() => setMaking(true)}>
              Make a release
            </Act>
          )
        }
      >
        A release freezes who gets which template, with pictures and texts. It is checked for everybody it concerns,
        approved, sent out in waves, and can be withdrawn.
      </PageHead>
      <Lacking permission="releases">Making releases</Lacking>
      <Trouble error={releases.error ?? endings.error} />
      {endings.data?.map((e) => (
        <Alert key={`${e.template} ${e.slot}`} severity="warning" variant="outlined" sx={{ mb: 2 }}>
          {e.template}: the dated piece {e.slot} ends on {e.until}, in {count(e.days, 'day', 'days')}. Go on showing it:{' '}
          {e.stays.join('; ')}. Do not: {e.goes.join('; ')}.
        </Alert>
      ))}
      {making && <MakeRelease onClose={() => setMaking(false)} last={releases.data?.[0]} />}
      {releases.data?.length === 0 && !making && (
        <Typography color="text.secondary">
          Nothing was released yet. Say first who gets what under People, Assignments; then make a release.
        </Typography>
      )}
      {releases.data && releases.data.length > 0 && <List releases={releases.data} />}
    </Page>
  )
}

function List({ releases }: { releases: Release[] }) {
  return (
    <Table size="small" aria-label="Releases">
      <TableHead>
        <TableRow>
          {['Release', 'State', 'Made', 'By', 'Approved by', 'Waves begun'].map((h) => (
            <TableCell key={h}>{h}</TableCell>
          ))}
        </TableRow>
      </TableHead>
      <TableBody>
        {releases.map((r) => (
          <TableRow key={r.id}>
            <TableCell>
              <Link component={RouterLink} to={`/releases/${r.id}`}>
                {r.id}: {r.title}
              </Link>
            </TableCell>
            <TableCell>
              <StateMark release={r} />
            </TableCell>
            <TableCell>{when(r.made)}</TableCell>
            <TableCell>{r.madeBy}</TableCell>
            <TableCell>{r.approvedBy}</TableCell>
            <TableCell>
              {r.waves.length > 0 && `${r.waves.filter((w) => w.opened).length} of ${r.waves.length}`}
            </TableCell>
          </TableRow>
        ))}
      </TableBody>
    </Table>
  )
}

function MakeRelease({ onClose, last }: { onClose: () => void; last?: Release }) {
  const queries = useQueryClient()
  const navigate = useNavigate()
  const [as, setAs] = useActing()
  const [title, setTitle] = useState('')
  const [note, setNote] = useState('')
  const [base, setBase] = useState(last?.base ?? '')
  const [frozenPeople, setFrozenPeople] = useState(false)
  const make = useMutation({
    mutationFn: () => api.makeRelease({ title, note, base, frozenPeople }, as),
    onSuccess: (made) => {
      void queries.invalidateQueries({ queryKey: ['releases'] })
      void navigate(`/releases/${made.id}`)
    },
  })
  return (
    <Box
      component="form"
      aria-label="New release"
      sx={{ display: 'flex', flexDirection: 'column', gap: 2, mb: 4, maxWidth: 720 }}
      onSubmit={(e) => {
        e.preventDefault()
        make.mutate()
      }}
    >
      <TextField size="small" label="Title" value={title} required onChange={(e) => setTitle(e.target.value)} />
      <TextField
        size="small"
        label="What it is about"
        value={note}
        multiline
        onChange={(e) => setNote(e.target.value)}
      />
      <TextField
        size="small"
        label="Base name of the files on desks"
        value={base}
        helperText="Keep it from release to release: the new files then take the place of the old ones."
        onChange={(e) => setBase(e.target.value)}
      />
      <FormControlLabel
        control={<Checkbox checked={frozenPeople} onChange={(e) => setFrozenPeople(e.target.checked)} />}
        label="Freeze the people too: a change in the directory then reaches no desk"
      />
      <Box sx={{ display: 'flex', gap: 1.5, alignItems: 'center' }}>
        <ActingField value={as} onChange={setAs} />
        <Button type="submit" variant="contained" disabled={!title.trim() || make.isPending}>
          Freeze and check
        </Button>
        <Button onClick={onClose}>Cancel</Button>
      </Box>
      <Trouble error={make.error} />
    </Box>
  )
}
