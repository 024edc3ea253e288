import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, type PersonalDetails, type PreparedSignature, Refusal } from '../api/api'
import { useSay } from './language'
import { LookBox } from './LookBox'
import { usePaused } from '../workbench/paused'

/** The person's details: what they may change themselves, seen at once in the look, and what the directory says. */
export function MyDetails({ client, situation }: { client: string; situation?: string }) {
  const say = useSay()
  const details = useQuery({ queryKey: ['details'], queryFn: api.details })
  const [saved, setSaved] = useState(false)
  if (details.error) return <Alert severity="error">{details.error.message}</Alert>
  if (!details.data) return null
  const d = details.data
  if (d.values.length === 0 && !d.wrong) return <Alert severity="info">{say('details.none')}</Alert>
  return (
    <>
      {d.values.length > 0 && (
        <Own
          key={JSON.stringify(d.values)}
          details={d}
          client={client}
          situation={situation}
          saved={saved}
          onSaved={setSaved}
        />
      )}
      {d.directory.length > 0 && <FromDirectory details={d} />}
    </>
  )
}

interface OwnProps {
  details: PersonalDetails
  client: string
  situation?: string
  saved: boolean
  onSaved: (saved: boolean) => void
}

function Own({ details, client, situation, saved, onSaved }: OwnProps) {
  const say = useSay()
  const queries = useQueryClient()
  const stored = Object.fromEntries(details.values.map((v) => [v.field, v.value]))
  const [values, setValues] = useState<Record<string, string>>(stored)
  const changed = Object.fromEntries(Object.entries(values).filter(([field, value]) => value !== stored[field]))
  const draft = usePaused(JSON.stringify(changed), 300)
  const [shown, setShown] = useState<PreparedSignature>() // the last that could be: it stays while what is typed is refused
  const look = useQuery({
    queryKey: ['look', client, situation, draft],
    queryFn: async () => {
      const s = await api.prepareSignature({
        client,
        situation: situation ?? 'new',
        draft: JSON.parse(draft) as Record<string, string>,
      })
      setShown(s)
      return s
    },
    enabled: situation !== undefined,
  })
  const save = useMutation({
    mutationFn: () => api.putDetails(changed),
    onSuccess: (next) => {
      onSaved(true)
      queries.setQueryData(['details'], next)
      void queries.invalidateQueries({ queryKey: ['signature'] })
    },
  })
  const error = save.error ?? look.error
  const field = error instanceof Refusal ? error.field : ''
  const asks = details.values.some((v) => v.approval && v.field in changed)
  return (
    <section aria-label={say('tab.details')}>
      <Typography sx={{ mb: 2 }}>{say('details.about')}</Typography>
      <Box sx={{ display: 'grid', gridTemplateColumns: { sm: '1fr 1fr' }, gap: 2, mb: 2 }}>
        {details.values.map((v) => (
          <TextField
            key={v.field}
            label={v.label || v.field}
            select={v.choices.length > 0}
            value={values[v.field] ?? ''}
            onChange={(event) => {
              setValues({ ...values, [v.field]: event.target.value })
              onSaved(false)
            }}
            error={field === v.field}
            helperText={
              field === v.field ? error?.message : v.waiting ? say('details.waiting', { value: v.waiting }) : ' '
            }
            slotProps={{ htmlInput: { maxLength: v.longest || undefined, dir: 'auto' } }}
            size="small"
          >
            {v.choices.length > 0 &&
              [...new Set([v.value, '', ...v.choices])].map((choice) => (
                <MenuItem key={choice} value={choice}>
                  {choice || '–'}
                </MenuItem>
              ))}
          </TextField>
        ))}
      </Box>
      {error && !field && (
        <Alert severity="error" sx={{ mb: 2 }}>
          {error.message}
        </Alert>
      )}
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 2, mb: 3 }}>
        <Button
          variant="contained"
          disabled={Object.keys(changed).length === 0}
          loading={save.isPending}
          onClick={() => save.mutate()}
        >
          {say(asks ? 'details.ask' : 'details.save')}
        </Button>
        <Typography role="status" variant="body2">
          {saved && say('details.saved')}
        </Typography>
      </Box>
      {shown && <LookBox signature={shown} />}
    </section>
  )
}

function FromDirectory({ details }: { details: PersonalDetails }) {
  const say = useSay()
  return (
    <section aria-labelledby="directory">
      <Typography variant="h2" id="directory" sx={{ mb: 1 }}>
        {say('details.directory')}
      </Typography>
      <Box component="ul" sx={{ listStyle: 'none', p: 0, m: 0 }}>
        {details.directory.map((entry) => (
          <Entry key={entry.field} entry={entry} who={details.wrong} />
        ))}
      </Box>
    </section>
  )
}

function Entry({ entry, who }: { entry: PersonalDetails['directory'][number]; who: string }) {
  const say = useSay()
  const [open, setOpen] = useState(false)
  const [note, setNote] = useState('')
  const report = useMutation({ mutationFn: () => api.reportDetail(entry.field, note), onSuccess: () => setOpen(false) })
  return (
    <Box component="li" sx={{ borderBottom: 1, borderColor: 'divider', py: 1 }}>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', alignItems: 'baseline', columnGap: 2 }}>
        <Typography variant="body2" color="text.secondary" sx={{ minWidth: 130 }}>
          {entry.field}
        </Typography>
        <Typography dir="auto" sx={{ flexGrow: 1 }}>
          {entry.value}
        </Typography>
        {who && !open && !report.isSuccess && (
          <Button size="small" onClick={() => setOpen(true)} aria-label={`${say('details.wrong')}: ${entry.field}`}>
            {say('details.wrong')}
          </Button>
        )}
        <Typography role="status" variant="body2">
          {report.isSuccess && say('details.sent', { who })}
        </Typography>
      </Box>
      {open && (
        <Box
          component="form"
          sx={{ display: 'flex', flexWrap: 'wrap', gap: 1, mt: 1, alignItems: 'flex-start' }}
          onSubmit={(event) => {
            event.preventDefault()
            report.mutate()
          }}
        >
          <TextField
            autoFocus
            size="small"
            label={say('details.tell', { who })}
            value={note}
            onChange={(event) => setNote(event.target.value)}
            error={Boolean(report.error)}
            helperText={report.error?.message}
            sx={{ flexGrow: 1, minWidth: 260 }}
          />
          <Button type="submit" variant="outlined" disabled={!note.trim()} loading={report.isPending}>
            {say('details.send')}
          </Button>
        </Box>
      )}
    </Box>
  )
}
