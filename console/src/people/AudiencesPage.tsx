import Box from '@mui/material/Box'
import Link from '@mui/material/Link'
import List from '@mui/material/List'
import ListItemButton from '@mui/material/ListItemButton'
import ListItemText from '@mui/material/ListItemText'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as RouterLink } from 'react-router'
import { Act, Lacking } from '../access/session'
import { api, type AudienceCount, type Condition } from '../api/api'
import { count, Page, Trouble } from '../pages/parts'
import { usePaused } from '../workbench/paused'
import { blankCondition, ConditionEditor, isWhole } from './ConditionEditor'
import { PeopleHead } from './PeopleHead'

interface Draft {
  name: string
  title: string
  condition: Condition
  stored: boolean
}

/** Groups of people by conditions. */
export function AudiencesPage() {
  const audiences = useQuery({ queryKey: ['audiences'], queryFn: api.audiences })
  const [draft, setDraft] = useState<Draft>()
  const open = (a: AudienceCount) => setDraft({ name: a.name, title: a.title, condition: a.condition, stored: true })
  return (
    <Page wide>
      <PeopleHead
        title="Audiences"
        actions={
          <Act
            needs="people"
            variant="contained"
            onClick={() => setDraft({ name: '', title: '', condition: blankCondition('all'), stored: false })}
          >
            New audience
          </Act>
        }
      >
        People by what is known of them. An audience can be used inside another, and in the assignments.
      </PeopleHead>
      <Lacking permission="people">Changing audiences</Lacking>
      <Trouble error={audiences.error} />
      <Box sx={{ display: 'grid', gridTemplateColumns: { xs: '1fr', md: '260px 1fr' }, gap: 4 }}>
        <List component="nav" dense aria-label="Audiences" sx={{ alignSelf: 'start', p: 0 }}>
          {audiences.data?.map((a) => (
            <ListItemButton key={a.name} selected={draft?.stored && draft.name === a.name} onClick={() => open(a)}>
              <ListItemText primary={a.title || a.name} secondary={count(a.people, 'person', 'people')} />
            </ListItemButton>
          ))}
          {audiences.data?.length === 0 && <Typography color="text.secondary">There is none yet.</Typography>}
        </List>
        {draft ? (
          <Editor
            key={draft.stored ? draft.name : 'new'}
            draft={draft}
            onChange={setDraft}
            all={audiences.data ?? []}
            onClose={() => setDraft(undefined)}
          />
        ) : (
          <Typography color="text.secondary">Choose an audience to see who is in it, and why.</Typography>
        )}
      </Box>
    </Page>
  )
}

function Editor({
  draft,
  onChange,
  all,
  onClose,
}: {
  draft: Draft
  onChange: (d: Draft) => void
  all: AudienceCount[]
  onClose: () => void
}) {
  const queries = useQueryClient()
  const fields = useQuery({ queryKey: ['fields'], queryFn: api.fields })
  const condition = usePaused(draft.condition, 300)
  const members = useQuery({
    queryKey: ['audience', 'try', condition],
    queryFn: ({ signal }) => api.tryAudience(condition, signal),
    placeholderData: keepPreviousData,
    enabled: isWhole(condition),
  })
  const done = () => void queries.invalidateQueries()
  const save = useMutation({
    mutationFn: () => api.putAudience(draft.name, draft.title, draft.condition),
    onSuccess: () => {
      onChange({ ...draft, stored: true })
      done()
    },
  })
  const remove = useMutation({
    mutationFn: () => api.removeAudience(draft.name),
    onSuccess: () => {
      done()
      onClose()
    },
  })
  const used = all.find((a) => a.name === draft.name)?.usedBy ?? []
  const names = all.map((a) => a.name).filter((n) => n !== draft.name)
  return (
    <Box component="section" aria-label="Audience">
      <Box sx={{ display: 'flex', gap: 1.5, mb: 2, flexWrap: 'wrap' }}>
        <TextField
          size="small"
          label="Name"
          value={draft.name}
          disabled={draft.stored}
          onChange={(e) => onChange({ ...draft, name: e.target.value })}
          helperText={draft.stored ? undefined : 'small letters, digits, hyphens'}
        />
        <TextField
          size="small"
          label="Title"
          value={draft.title}
          onChange={(e) => onChange({ ...draft, title: e.target.value })}
          sx={{ minWidth: 260 }}
        />
        <Act
          needs="people"
          variant="contained"
          disabled={!draft.name || !isWhole(draft.condition) || save.isPending}
          onClick={() => save.mutate()}
        >
          Save
        </Act>
        {draft.stored && (
          <Act needs="people" disabled={used.length > 0 || remove.isPending} onClick={() => remove.mutate()}>
            Remove
          </Act>
        )}
      </Box>
      {used.length > 0 && (
        <Typography variant="body2" color="text.secondary" sx={{ mb: 1.5 }}>
          Used by {used.join(', ')}.
        </Typography>
      )}
      <ConditionEditor
        name="condition"
        of={draft.condition}
        fields={(fields.data?.fields ?? []).map((f) => f.name)}
        audiences={names}
        onChange={(c) => onChange({ ...draft, condition: c })}
      />
      <Trouble error={save.error ?? remove.error ?? members.error} />
      <Typography variant="h2" sx={{ mt: 3, mb: 1 }} aria-live="polite">
        {members.data
          ? `${count(members.data.total, 'person', 'people')} in it`
          : isWhole(draft.condition)
            ? 'Looking ...'
            : 'Say what is asked of people, and who fulfils it is listed here.'}
      </Typography>
      {members.data && (
        <Table size="small" aria-label="People of the audience">
          <TableHead>
            <TableRow>
              <TableCell>Person</TableCell>
              <TableCell>Name</TableCell>
              <TableCell>Because</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {members.data.people.map((m) => (
              <TableRow key={m.mail}>
                <TableCell>
                  <Link component={RouterLink} to={`/people/who/${encodeURIComponent(m.mail)}`}>
                    {m.mail}
                  </Link>
                </TableCell>
                <TableCell>
                  <bdi>{m.name}</bdi>
                </TableCell>
                <TableCell>{m.reason}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
      {members.data && members.data.total > members.data.people.length && (
        <Typography color="text.secondary" sx={{ mt: 1 }}>
          The first {members.data.people.length} are shown.
        </Typography>
      )}
    </Box>
  )
}
