import Box from '@mui/material/Box'
import Link from '@mui/material/Link'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import ToggleButton from '@mui/material/ToggleButton'
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as RouterLink, useParams } from 'react-router'
import { Act } from '../access/session'
import { api, type PersonDetail } from '../api/api'
import { count, Page, Severity, Trouble, when } from '../pages/parts'
import { LookFrame } from '../workbench/LookFrame'
import { PeopleHead } from './PeopleHead'

/** Everything that is known of a person, where it is from, and what they get. */
export function PersonPage() {
  const { mail = '' } = useParams()
  const person = useQuery({ queryKey: ['person', mail], queryFn: () => api.person(mail) })
  return (
    <Page>
      <PeopleHead title={person.data?.name || mail}>
        {person.data && (
          <>
            {person.data.mail} · came {when(person.data.came)}
            {person.data.left && <b> · left {when(person.data.left)}</b>}
            {person.data.groups.length > 0 && ` · in the groups ${person.data.groups.join(', ')}`}
          </>
        )}
      </PeopleHead>
      <Trouble error={person.error} />
      {person.data && (
        <>
          <Gets person={person.data} />
          <Audiences person={person.data} />
          <Values person={person.data} />
          <History person={person.data} />
        </>
      )}
    </Page>
  )
}

function Gets({ person }: { person: PersonDetail }) {
  const [chosen, setChosen] = useState('')
  const now = person.gets.find((g) => g.situation === chosen) ?? person.gets[0]
  const look = useQuery({
    queryKey: ['look', now?.template, person.mail, now?.shown],
    queryFn: () => api.look(now?.template ?? '', { person: person.mail, variant: now?.shown ?? '' }),
    enabled: Boolean(now?.template),
  })
  const report = useQuery({
    queryKey: ['findings', now?.template, person.mail],
    queryFn: ({ signal }) => api.check(now?.template ?? '', { person: person.mail }, signal),
    enabled: Boolean(now?.template),
  })
  return (
    <Section title="What they get">
      {!now ? (
        <Typography color="text.secondary">
          There are no <Link href="/people/assignments">assignments</Link> yet: nobody has said who gets which template.
        </Typography>
      ) : (
        <>
          <ToggleButtonGroup
            exclusive
            size="small"
            value={now.situation}
            aria-label="Situation"
            onChange={(_, value: string | null) => value && setChosen(value)}
          >
            {person.gets.map((g) => (
              <ToggleButton key={g.situation} value={g.situation} sx={{ color: 'text.primary' }}>
                {g.situation}
              </ToggleButton>
            ))}
          </ToggleButtonGroup>
          <Typography sx={{ my: 1 }}>
            {now.template ? (
              <>
                <Link component={RouterLink} to={`/templates/${now.template}`}>
                  {now.template}
                </Link>
                , variant {now.shown}, by line {now.line}: {now.reason}
              </>
            ) : (
              <>
                No signature, by line {now.line}: {now.reason}
              </>
            )}
            {now.note && ` (${now.note})`}
          </Typography>
          <Trouble error={look.error ?? report.error} />
          {look.data && (
            <Box sx={{ border: 1, borderColor: 'divider', height: 260, overflow: 'auto', bgcolor: '#fff' }}>
              <LookFrame look={look.data} title={`The signature of ${person.name}, ${now.situation}`} />
            </Box>
          )}
          {report.data && now.template && (
            <Box sx={{ mt: 1 }} aria-label="Findings for this person" role="group">
              {report.data.findings.length === 0 ? (
                <Typography>No findings for this person.</Typography>
              ) : (
                report.data.findings.slice(0, 10).map((f, i) => (
                  <Typography key={i} variant="body2">
                    <Severity of={f.severity} /> {f.check}
                    {f.message && `: ${f.message}`}
                  </Typography>
                ))
              )}
              {report.data.findings.length > 10 && (
                <Typography variant="body2">and {report.data.findings.length - 10} more in the workbench</Typography>
              )}
            </Box>
          )}
        </>
      )}
    </Section>
  )
}

function Audiences({ person }: { person: PersonDetail }) {
  return (
    <Section title="Audiences">
      {person.audiences.length === 0 && <Typography color="text.secondary">In none.</Typography>}
      <Box component="ul" sx={{ m: 0, pl: 2.5 }}>
        {person.audiences.map((a) => (
          <li key={a.audience}>
            <b>{a.title || a.audience}</b>: {a.reason}
          </li>
        ))}
      </Box>
    </Section>
  )
}

function Values({ person }: { person: PersonDetail }) {
  const queries = useQueryClient()
  const [field, setField] = useState('')
  const [value, setValue] = useState('')
  const keep = useMutation({
    mutationFn: (values: Record<string, string>) => api.editPerson(person.mail, values),
    onSuccess: () => {
      setField('')
      setValue('')
      void queries.invalidateQueries()
    },
  })
  return (
    <Section title="Values">
      <Table size="small" aria-label="Values">
        <TableHead>
          <TableRow>
            <TableCell>Field</TableCell>
            <TableCell>Value</TableCell>
            <TableCell>Source</TableCell>
            <TableCell />
          </TableRow>
        </TableHead>
        <TableBody>
          {person.origins.map((v) => (
            <TableRow key={v.field}>
              <TableCell>{v.field}</TableCell>
              <TableCell>
                <bdi>{v.value}</bdi>
                {person.others
                  .filter((o) => o.field === v.field)
                  .map((o) => (
                    <Typography key={o.source} variant="body2" color="text.secondary">
                      {o.source} has: <bdi>{o.value}</bdi>
                    </Typography>
                  ))}
              </TableCell>
              <TableCell>{v.source === 'kept' ? 'kept here' : v.source}</TableCell>
              <TableCell align="right">
                {v.source === 'kept' && (
                  <Act
                    needs="people"
                    size="small"
                    aria-label={`Take ${v.field} away`}
                    onClick={() => keep.mutate({ [v.field]: '' })}
                  >
                    Take away
                  </Act>
                )}
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      <Box
        component="form"
        sx={{ display: 'flex', gap: 1.5, mt: 2, alignItems: 'center', flexWrap: 'wrap' }}
        onSubmit={(e) => {
          e.preventDefault()
          keep.mutate({ [field]: value })
        }}
      >
        <TextField size="small" label="Field" value={field} onChange={(e) => setField(e.target.value)} />
        <TextField
          size="small"
          label="Value"
          value={value}
          onChange={(e) => setValue(e.target.value)}
          sx={{ minWidth: 260 }}
        />
        <Act needs="people" type="submit" variant="outlined" disabled={!field || !value || keep.isPending}>
          Keep here
        </Act>
        <Typography variant="body2" color="text.secondary">
          For what no source knows, such as pronouns or a booking address. It survives every run.
        </Typography>
      </Box>
      <Trouble error={keep.error} />
    </Section>
  )
}

function History({ person }: { person: PersonDetail }) {
  return (
    <Section title="History">
      <Box component="ol" aria-label="History" sx={{ m: 0, pl: 2.5 }}>
        {person.history.map((h) => (
          <Box component="li" key={`${h.run} ${h.at} ${h.kind}`} sx={{ mb: 0.8 }}>
            {when(h.at)}:{' '}
            <Link component={RouterLink} to={`/people/runs/${h.run}`}>
              run {h.run}
            </Link>{' '}
            of {h.source}, by {h.by}: <b>{h.kind}</b>
            {h.undone && ' (undone)'}
            {h.kind === 'new'
              ? `, with ${count(h.fields.length, 'field', 'fields')}`
              : h.fields.map((f) => (
                  <Typography key={f.field} variant="body2" sx={{ pl: 2 }}>
                    {f.field}: <s>{f.before || 'blank'}</s> → {f.after || 'blank'}
                  </Typography>
                ))}
          </Box>
        ))}
      </Box>
    </Section>
  )
}

function Section({ title, children }: { title: string; children: React.ReactNode }) {
  return (
    <Box component="section" sx={{ mb: 4 }}>
      <Typography variant="h2" sx={{ mb: 1.2 }}>
        {title}
      </Typography>
      {children}
    </Box>
  )
}
