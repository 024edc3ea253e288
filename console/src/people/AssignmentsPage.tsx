import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Act, Lacking } from '../access/session'
import { api, type Assignment, type AssignmentList } from '../api/api'
import { count, grouped, Page, Trouble, Warnings } from '../pages/parts'
import { usePaused } from '../workbench/paused'
import { PeopleHead } from './PeopleHead'

const builtIn = ['new', 'reply', 'internal', 'external']
const lastLine: Assignment = { audience: '', situation: '', template: '', variant: '', note: '' }

/** Who gets which template in which situation. */
export function AssignmentsPage() {
  const stored = useQuery({ queryKey: ['assignments'], queryFn: api.assignments })
  return (
    <Page wide>
      <PeopleHead title="Assignments">
        Who gets which template in which situation. The first line that fits decides; the last is for everybody.
        Templates are checked for the people who get them.
      </PeopleHead>
      <Lacking permission="people">Changing assignments</Lacking>
      <Trouble error={stored.error} />
      {stored.data && <Lines key={JSON.stringify(stored.data.lines)} stored={stored.data} />}
    </Page>
  )
}

interface Draft {
  lines: Assignment[]
  situations: string[]
}

function Lines({ stored }: { stored: AssignmentList }) {
  const queries = useQueryClient()
  const audiences = useQuery({ queryKey: ['audiences'], queryFn: api.audiences })
  const templates = useQuery({ queryKey: ['templates'], queryFn: api.templates })
  const before: Draft = {
    lines: stored.lines.length
      ? stored.lines.map(({ audience, situation, template, variant, note }) => ({
          audience,
          situation,
          template,
          variant,
          note,
        }))
      : [lastLine],
    situations: stored.situations.filter((s) => !builtIn.includes(s)),
  }
  const [draft, setDraft] = useState<Draft>(before)
  const [own, setOwn] = useState(before.situations.join(', '))
  const asked = usePaused(draft, 300)
  const tried = useQuery({
    queryKey: ['assignments', 'try', asked],
    queryFn: ({ signal }) => api.putAssignments(asked.lines, asked.situations, true, signal),
    placeholderData: keepPreviousData,
  })
  const save = useMutation({
    mutationFn: () => api.putAssignments(draft.lines, draft.situations, false),
    onSuccess: () => void queries.invalidateQueries(),
  })
  const set = (i: number, change: Partial<Assignment>) =>
    setDraft({ ...draft, lines: draft.lines.map((l, at) => (at === i ? { ...l, ...change } : l)) })
  const move = (i: number, by: number) => {
    const lines = [...draft.lines]
    const [line] = lines.splice(i, 1)
    if (line) lines.splice(i + by, 0, line)
    setDraft({ ...draft, lines })
  }
  const list = tried.data
  const situations = [...builtIn, ...draft.situations]
  const changed = JSON.stringify(draft) !== JSON.stringify(before) || stored.lines.length === 0
  const last = draft.lines.length - 1
  return (
    <>
      {stored.lines.length === 0 && (
        <Alert severity="info" variant="outlined" sx={{ mb: 2 }}>
          Nobody has said who gets what yet. Until then every template is checked for everybody.
        </Alert>
      )}
      <Box sx={{ overflowX: 'auto' }}>
        <Table size="small" aria-label="Assignments">
          <TableHead>
            <TableRow>
              {['Line', 'Audience', 'Situation', 'Template', 'Variant'].map((h) => (
                <TableCell key={h}>{h}</TableCell>
              ))}
              {list?.situations.map((s) => (
                <TableCell key={s} align="right">
                  {s}
                </TableCell>
              ))}
              <TableCell />
            </TableRow>
          </TableHead>
          <TableBody>
            {draft.lines.map((line, i) => (
              <TableRow key={i}>
                <TableCell>{i + 1}</TableCell>
                <TableCell>
                  <Pick
                    label={`Audience of line ${i + 1}`}
                    value={line.audience}
                    blank="everybody"
                    options={(audiences.data ?? []).map((a) => [a.name, a.title || a.name])}
                    disabled={i === last}
                    onChange={(audience) => set(i, { audience })}
                  />
                </TableCell>
                <TableCell>
                  <Pick
                    label={`Situation of line ${i + 1}`}
                    value={line.situation}
                    blank="every one"
                    options={situations.map((s) => [s, s])}
                    disabled={i === last}
                    onChange={(situation) => set(i, { situation })}
                  />
                </TableCell>
                <TableCell>
                  <Pick
                    label={`Template of line ${i + 1}`}
                    value={line.template}
                    blank="no signature"
                    options={(templates.data ?? []).map((t) => [t.name, t.title])}
                    onChange={(template) => set(i, { template, variant: '' })}
                  />
                </TableCell>
                <TableCell>
                  <Pick
                    label={`Variant of line ${i + 1}`}
                    value={line.variant}
                    blank="as the situation"
                    options={(templates.data?.find((t) => t.name === line.template)?.variants ?? []).map((v) => [v, v])}
                    disabled={!line.template}
                    onChange={(variant) => set(i, { variant })}
                  />
                </TableCell>
                {list?.situations.map((s, at) => (
                  <TableCell key={s} align="right" sx={{ fontVariantNumeric: 'tabular-nums' }}>
                    {line.situation && line.situation !== s ? '·' : grouped(list.lines[i]?.people[at] ?? 0)}
                  </TableCell>
                ))}
                <TableCell sx={{ whiteSpace: 'nowrap', pl: 1, pr: 0 }}>
                  {i !== last && (
                    <>
                      <Button
                        size="small"
                        sx={{ minWidth: 30 }}
                        disabled={i === 0}
                        aria-label={`Line ${i + 1} up`}
                        onClick={() => move(i, -1)}
                      >
                        ↑
                      </Button>
                      <Button
                        size="small"
                        sx={{ minWidth: 30 }}
                        disabled={i === last - 1}
                        aria-label={`Line ${i + 1} down`}
                        onClick={() => move(i, 1)}
                      >
                        ↓
                      </Button>
                      <Button
                        size="small"
                        sx={{ minWidth: 30 }}
                        aria-label={`Remove line ${i + 1}`}
                        onClick={() => setDraft({ ...draft, lines: draft.lines.filter((_, at) => at !== i) })}
                      >
                        ✕
                      </Button>
                    </>
                  )}
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </Box>
      <Box sx={{ display: 'flex', gap: 1.5, mt: 2, mb: 2, alignItems: 'center', flexWrap: 'wrap' }}>
        <Act
          needs="people"
          variant="outlined"
          onClick={() =>
            setDraft({ ...draft, lines: [...draft.lines.slice(0, -1), { ...lastLine }, ...draft.lines.slice(-1)] })
          }
        >
          Add a line
        </Act>
        <TextField
          size="small"
          label="Situations of your own"
          value={own}
          helperText="with commas; small letters, digits, hyphens"
          onChange={(e) => {
            setOwn(e.target.value)
            setDraft({
              ...draft,
              situations: e.target.value
                .split(',')
                .map((s) => s.trim())
                .filter(Boolean),
            })
          }}
        />
        <Act needs="people" variant="contained" disabled={!changed || save.isPending} onClick={() => save.mutate()}>
          Save
        </Act>
        {changed && stored.lines.length > 0 && <Typography color="text.secondary">Not saved.</Typography>}
      </Box>
      <Trouble error={save.error ?? tried.error} />
      {list && <Warnings of={warnings(list)} />}
    </>
  )
}

/** What is worth knowing of the lines: those that never decide, and who gets nothing. */
function warnings(list: AssignmentList): string[] {
  const found: string[] = []
  list.lines.forEach((line, i) => {
    if (line.covered > 0)
      found.push(
        `Line ${i + 1} can never decide: line ${line.covered} comes before it and is for the same people or more.`,
      )
    else if (list.people > 0 && line.people.every((n) => n === 0))
      found.push(`Line ${i + 1} decides for nobody at present.`)
  })
  list.nothing.forEach((n, i) => {
    if (n > 0)
      found.push(
        `${grouped(n)} of ${count(list.people, 'person', 'people')} get no signature in the situation ${list.situations[i]}.`,
      )
  })
  return found
}

function Pick({
  label,
  value,
  blank,
  options,
  disabled,
  onChange,
}: {
  label: string
  value: string
  blank: string
  options: string[][]
  disabled?: boolean
  onChange: (value: string) => void
}) {
  return (
    <TextField
      select
      size="small"
      variant="standard"
      value={options.some(([id]) => id === value) ? value : ''}
      disabled={disabled}
      onChange={(e) => onChange(e.target.value)}
      slotProps={{ select: { displayEmpty: true, SelectDisplayProps: { 'aria-label': label } } }}
      sx={{ minWidth: 118, maxWidth: 190 }}
    >
      <MenuItem value="">{blank}</MenuItem>
      {options.map(([id, text]) => (
        <MenuItem key={id} value={id}>
          {text}
        </MenuItem>
      ))}
    </TextField>
  )
}
