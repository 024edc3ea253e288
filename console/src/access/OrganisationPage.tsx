import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { type ReactNode, useState } from 'react'
import { api, type OrganisationSettings } from '../api/api'
import { Page, Trouble } from '../pages/parts'
import { AccessHead } from './AccessHead'
import { Act, Lacking, useMay } from './session'

/** What all templates and mail rules share. */
export function OrganisationPage() {
  const queries = useQueryClient()
  const stored = useQuery({ queryKey: ['organisation'], queryFn: api.organisation })
  const save = useMutation({
    mutationFn: api.putOrganisation,
    onSuccess: () => void queries.invalidateQueries(),
  })
  return (
    <Page>
      <AccessHead title="Organisation">
        What all templates and mail rules share. A template that has a constant, a text, a language or a country of its
        own keeps it; the workbench says where each value comes from. A release freezes this too.
      </AccessHead>
      <Lacking permission="settings">Changing this</Lacking>
      <Trouble error={stored.error} />
      {stored.data && (
        <Editor
          key={JSON.stringify(stored.data)}
          stored={stored.data}
          saving={save.isPending}
          onChange={save.reset}
          onSave={save.mutate}
        />
      )}
      <Trouble error={save.error} />
      {save.isSuccess && (
        <Alert severity="success" variant="outlined" sx={{ mt: 2 }}>
          Saved. Templates are checked anew with it; what is released stays as it is.
        </Alert>
      )}
    </Page>
  )
}

type Pair = [string, string]
type Line = [string, string, string] // name, language, text

interface Draft {
  language: string
  country: string
  domains: string
  address: string
  constants: Pair[]
  texts: Line[]
}

function draftOf(s: OrganisationSettings): Draft {
  return {
    language: s.language,
    country: s.country,
    address: s.address,
    domains: s.domains.join(', '),
    constants: Object.entries(s.constants),
    texts: Object.entries(s.texts).flatMap(([name, of]) =>
      Object.entries(of).map(([tag, text]): Line => [name, tag, text]),
    ),
  }
}

function settingsOf(d: Draft): OrganisationSettings {
  const texts: Record<string, Record<string, string>> = {}
  for (const [name, tag, text] of d.texts) if (name || text) texts[name] = { ...texts[name], [tag]: text }
  return {
    language: d.language.trim(),
    country: d.country.trim().toUpperCase(),
    address: d.address.trim(),
    domains: d.domains
      .split(/[\s,]+/)
      .map((one) => one.trim())
      .filter((one) => one !== ''),
    constants: Object.fromEntries(d.constants.filter(([name, value]) => name || value)),
    texts,
  }
}

function Editor({
  stored,
  saving,
  onChange,
  onSave,
}: {
  stored: OrganisationSettings
  saving: boolean
  onChange: () => void
  onSave: (settings: OrganisationSettings) => void
}) {
  const may = useMay('settings')
  const [draft, set] = useState(() => draftOf(stored))
  const setDraft = (next: Draft) => {
    set(next)
    onChange()
  }
  const changed = JSON.stringify(draft) !== JSON.stringify(draftOf(stored))
  return (
    <Box component="fieldset" disabled={!may} sx={{ border: 0, p: 0, m: 0, minWidth: 0 }}>
      <Part title="Language, country, addresses">
        <Box sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap' }}>
          <TextField
            size="small"
            label="Language"
            value={draft.language}
            helperText="Such as en or pt-BR."
            sx={{ width: 150 }}
            onChange={(e) => setDraft({ ...draft, language: e.target.value })}
          />
          <TextField
            size="small"
            label="Country"
            value={draft.country}
            helperText="Two letters, for telephone numbers."
            sx={{ width: 230 }}
            onChange={(e) => setDraft({ ...draft, country: e.target.value })}
          />
          <TextField
            size="small"
            label="Public address of pictures"
            value={draft.address}
            helperText="Where readers reach the pictures that this service hosts. Blank: nowhere."
            sx={{ flex: 1, minWidth: 380 }}
            onChange={(e) => setDraft({ ...draft, address: e.target.value })}
          />
          <TextField
            size="small"
            label="Own mail domains"
            value={draft.domains}
            helperText="Which recipients are inside. Blank: the domains of your people's addresses."
            sx={{ flex: 1, minWidth: 320 }}
            onChange={(e) => setDraft({ ...draft, domains: e.target.value })}
          />
        </Box>
      </Part>
      <Part title="Constants" says="A template shows one as {{ org.name }}.">
        <Rows
          label="Constants"
          heads={['Name', 'Value']}
          rows={draft.constants}
          blank={['', '']}
          onChange={(rows) => setDraft({ ...draft, constants: rows as Pair[] })}
        />
      </Part>
      <Part title="Texts" says="A template shows one as {{ text.name }}, in the language of the person.">
        <Rows
          label="Texts"
          heads={['Name', 'Language', 'Text']}
          rows={draft.texts}
          blank={['', draft.language, '']}
          onChange={(rows) => setDraft({ ...draft, texts: rows as Line[] })}
        />
      </Part>
      <Act needs="settings" variant="contained" disabled={!changed || saving} onClick={() => onSave(settingsOf(draft))}>
        Save
      </Act>
    </Box>
  )
}

function Part({ title, says, children }: { title: string; says?: string; children: ReactNode }) {
  return (
    <Box component="section" aria-label={title} sx={{ mb: 4 }}>
      <Typography variant="h2" sx={{ mb: says ? 0.5 : 1.5 }}>
        {title}
      </Typography>
      {says && (
        <Typography color="text.secondary" sx={{ mb: 1 }}>
          {says}
        </Typography>
      )}
      {children}
    </Box>
  )
}

/** A table of texts that can be typed into; the last column is the widest. */
function Rows({
  label,
  heads,
  rows,
  blank,
  onChange,
}: {
  label: string
  heads: string[]
  rows: string[][]
  blank: string[]
  onChange: (rows: string[][]) => void
}) {
  const put = (row: number, column: number, text: string) =>
    onChange(rows.map((r, i) => (i === row ? r.map((c, j) => (j === column ? text : c)) : r)))
  return (
    <>
      {rows.length > 0 && (
        <Table size="small" aria-label={label} sx={{ mb: 1 }}>
          <TableHead>
            <TableRow>
              {[...heads, ''].map((h) => (
                <TableCell key={h}>{h}</TableCell>
              ))}
            </TableRow>
          </TableHead>
          <TableBody>
            {rows.map((r, i) => (
              <TableRow key={i}>
                {r.map((cell, j) => (
                  <TableCell key={j} sx={{ width: j === r.length - 1 ? '100%' : 180, minWidth: 120 }}>
                    <TextField
                      size="small"
                      variant="standard"
                      fullWidth
                      multiline={j === r.length - 1}
                      value={cell}
                      slotProps={{ htmlInput: { 'aria-label': `${heads[j] ?? ''}, line ${i + 1}` } }}
                      onChange={(e) => put(i, j, e.target.value)}
                    />
                  </TableCell>
                ))}
                <TableCell>
                  <Button
                    size="small"
                    sx={{ minWidth: 0 }}
                    aria-label={`Remove line ${i + 1} of ${label}`}
                    onClick={() => onChange(rows.filter((_, at) => at !== i))}
                  >
                    ✕
                  </Button>
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
      <Button size="small" aria-label={`Add a line to ${label}`} onClick={() => onChange([...rows, [...blank]])}>
        Add a line
      </Button>
    </>
  )
}
