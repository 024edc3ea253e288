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
import { useState } from 'react'
import { Act } from '../access/session'
import { api, treeFile, type Consequence, type PictureSettings } from '../api/api'
import { grouped, Severity, TemplateField, Trouble } from '../pages/parts'
import { weight } from './facts'
import { NumberField } from './fields'

const forms: Record<string, string> = {
  fragment: 'what is pasted or appended',
  html: 'the page among a desk’s files',
  mime: 'the MIME part',
  message: 'the message draft',
}

/** What follows from each way in which pictures get to the reader, and the choice of it. */
export function Delivery() {
  const templates = useQuery({ queryKey: ['templates'], queryFn: api.templates })
  const [chosen, setChosen] = useState('')
  const template = chosen || (templates.data?.[0]?.name ?? '')
  return (
    <>
      <SettingsForm />
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 2, mb: 1.5, flexWrap: 'wrap' }}>
        <Typography variant="h2" sx={{ flex: 1 }}>
          What follows from each way
        </Typography>
        <TemplateField templates={templates.data} value={template} onChange={setChosen} />
        <Button variant="outlined" href={template ? treeFile(template) : ''} disabled={!template}>
          Pictures for a web server
        </Button>
      </Box>
      <Trouble error={templates.error} />
      {template && <Consequences key={template} template={template} />}
    </>
  )
}

function SettingsForm() {
  const queries = useQueryClient()
  const stored = useQuery({ queryKey: ['picture settings'], queryFn: api.pictureSettings })
  const [draft, setDraft] = useState<PictureSettings | null>(null)
  const save = useMutation({
    mutationFn: api.putPictureSettings,
    onSuccess: (s) => {
      queries.setQueryData(['picture settings'], s)
      setDraft(null)
      void queries.invalidateQueries({ queryKey: ['delivery'] })
    },
  })
  const value = draft ?? stored.data
  if (!value) return <Trouble error={stored.error} />
  const set = (change: Partial<PictureSettings>) => setDraft({ ...value, ...change })
  return (
    <Box
      component="form"
      aria-label="Hosting"
      onSubmit={(e) => {
        e.preventDefault()
        save.mutate(value)
      }}
      sx={{ display: 'flex', gap: 2, flexWrap: 'wrap', alignItems: 'flex-start', mb: 4 }}
    >
      <TextField
        label="Public address of hosted pictures"
        value={value.address}
        onChange={(e) => set({ address: e.target.value })}
        sx={{ flex: 1, minWidth: 320 }}
        size="small"
        helperText="Templates without an address of their own use it; each picture is named by its content and stays"
      />
      <NumberField
        label="Messages a day"
        value={value.volume}
        onChange={(volume) => set({ volume })}
        max={1_000_000_000}
        helperText="for the weight of a day"
      />
      <NumberField
        label="Check every, h"
        value={value.hours}
        onChange={(hours) => set({ hours })}
        max={8760}
        width={170}
        helperText="all addresses; blank: by hand"
      />
      <Act needs="settings" type="submit" variant="outlined" disabled={!draft || save.isPending}>
        Save
      </Act>
      <Trouble error={save.error} />
    </Box>
  )
}

function Consequences({ template }: { template: string }) {
  const queries = useQueryClient()
  const list = useQuery({ queryKey: ['delivery', template], queryFn: () => api.delivery(template) })
  const choose = useMutation({
    mutationFn: (c: Consequence) => api.chooseDelivery(template, { form: c.form, way: c.way }),
    onSuccess: (next) => {
      queries.setQueryData(['delivery', template], next)
      void queries.invalidateQueries({ queryKey: ['templates'] })
    },
  })
  return (
    <>
      <Trouble error={list.error ?? choose.error} />
      {list.data && (
        <Table size="small" aria-label="Ways">
          <TableHead>
            <TableRow>
              <TableCell>Form</TableCell>
              <TableCell>Way</TableCell>
              <TableCell align="right">In a message</TableCell>
              <TableCell align="right">In a day</TableCell>
              <TableCell align="right">Characters</TableCell>
              <TableCell>How readers see them</TableCell>
              <TableCell />
            </TableRow>
          </TableHead>
          <TableBody>
            {list.data.map((c, i) => (
              <TableRow key={c.form + c.way} sx={{ verticalAlign: 'top' }}>
                <TableCell>
                  {list.data[i - 1]?.form !== c.form && (
                    <>
                      <b>{c.form}</b>
                      <Typography variant="body2" color="text.secondary">
                        {forms[c.form]}
                      </Typography>
                    </>
                  )}
                </TableCell>
                <TableCell>{c.way}</TableCell>
                <TableCell align="right">{weight(c.message)}</TableCell>
                <TableCell align="right">
                  {c.message === 0
                    ? '0 kB'
                    : c.day > 0
                      ? `${grouped(Math.round(c.day / 1024 / 1024))} MB`
                      : 'give messages a day'}
                </TableCell>
                <TableCell align="right">{grouped(c.characters)}</TableCell>
                <TableCell>
                  {c.arrivals.map((a) => (
                    <Box key={a.as}>
                      <Severity of={signs[a.as] ?? 'note'}>{words[a.as]}</Severity>{' '}
                      <Typography component="span" variant="body2">
                        in {a.clients.join(', ')}
                      </Typography>
                    </Box>
                  ))}
                  {c['sent-along'] !== '' && (
                    <Typography variant="body2" color="text.secondary">
                      {c['sent-along']}
                    </Typography>
                  )}
                </TableCell>
                <TableCell align="right" sx={{ whiteSpace: 'nowrap' }}>
                  {c.chosen ? (
                    <b>chosen</b>
                  ) : (
                    <Act
                      needs="templates"
                      size="small"
                      disabled={choose.isPending}
                      onClick={() => choose.mutate(c)}
                      aria-label={`Choose ${c.way} for ${c.form}`}
                    >
                      Choose
                    </Act>
                  )}
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
    </>
  )
}

type As = Consequence['arrivals'][number]['as']

const signs: Record<As, 'fine' | 'degrades' | 'breaks'> = {
  shown: 'fine',
  blocked: 'degrades',
  attached: 'degrades',
  dropped: 'breaks',
}
const words: Record<As, string> = {
  shown: 'at once',
  blocked: 'hidden until allowed',
  attached: 'as attachments',
  dropped: 'not at all',
}
