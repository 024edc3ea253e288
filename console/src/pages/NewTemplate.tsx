import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import Radio from '@mui/material/Radio'
import RadioGroup from '@mui/material/RadioGroup'
import Tab from '@mui/material/Tab'
import Tabs from '@mui/material/Tabs'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState, type ClipboardEvent } from 'react'
import { useNavigate } from 'react-router'
import { api, type NewPreview, type NewRequest } from '../api/api'
import { PersonPicker } from '../workbench/PersonPicker'
import { CleanFacts } from '../workbench/CleanFacts'
import { count, Trouble } from './parts'

/** The ways to a new template: a starter, or what somebody brings. */
export function NewTemplate({ onClose }: { onClose: () => void }) {
  const navigate = useNavigate()
  const [name, setName] = useState('')
  const [way, setWay] = useState<'starter' | 'page'>('starter')
  const [starter, setStarter] = useState('columns')
  const [brought, setBrought] = useState<NewRequest>({ clean: true, person: '', answers: {} })
  const create = useMutation({
    mutationFn: () => api.newTemplate(name, way === 'starter' ? { starter } : brought),
    onSuccess: () => navigate(`/templates/${name}`),
  })
  const empty = way === 'page' && !brought.text && !brought.data
  return (
    <Dialog open onClose={onClose} maxWidth={way === 'page' ? 'md' : 'sm'} fullWidth aria-labelledby="new-template">
      <DialogTitle id="new-template">New template</DialogTitle>
      <Box
        component="form"
        onSubmit={(e) => {
          e.preventDefault()
          create.mutate()
        }}
        sx={{ display: 'flex', flexDirection: 'column', minHeight: 0 }}
      >
        <DialogContent sx={{ pt: 0 }}>
          <TextField
            autoFocus
            fullWidth
            label="Name"
            value={name}
            onChange={(e) => setName(e.target.value)}
            margin="dense"
            helperText="Lower-case letters, digits and hyphens, such as winter-crew"
          />
          <Tabs value={way} onChange={(_, v: 'starter' | 'page') => setWay(v)} aria-label="What to begin with">
            <Tab value="starter" label="Begin with a starter" />
            <Tab value="page" label="Bring a page or a signature" />
          </Tabs>
          {way === 'starter' ? (
            <Starters value={starter} onChange={setStarter} />
          ) : (
            <Brought value={brought} onChange={setBrought} />
          )}
          <Trouble error={create.error} />
        </DialogContent>
        <DialogActions>
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" variant="contained" disabled={!name || empty || create.isPending}>
            Make the template
          </Button>
        </DialogActions>
      </Box>
    </Dialog>
  )
}

function Starters({ value, onChange }: { value: string; onChange: (name: string) => void }) {
  const starters = useQuery({ queryKey: ['starters'], queryFn: api.starters, staleTime: Infinity })
  return (
    <>
      <Trouble error={starters.error} />
      <RadioGroup value={starters.data ? value : ''} onChange={(e) => onChange(e.target.value)} aria-label="Starter">
        {(starters.data ?? []).map((s) => (
          <FormControlLabel
            key={s.name}
            value={s.name}
            control={<Radio />}
            sx={{ alignItems: 'flex-start', my: 0.2 }}
            label={
              <Box sx={{ pt: 1 }}>
                {s.title}
                <Typography variant="body2" color="text.secondary">
                  {s.about}
                </Typography>
              </Box>
            }
          />
        ))}
      </RadioGroup>
    </>
  )
}

/** What was pasted or uploaded, whose signature it is, and what it would become. */
function Brought({ value, onChange }: { value: NewRequest; onChange: (value: NewRequest) => void }) {
  const there = Boolean(value.text ?? value.data)
  const would = useQuery({ queryKey: ['new', value], queryFn: () => api.newPreview(value), enabled: there, gcTime: 0 })
  const paste = (e: ClipboardEvent) => {
    e.preventDefault()
    const text = e.clipboardData.getData('text/html') || e.clipboardData.getData('text/plain')
    onChange({ ...value, text, data: undefined, answers: {} })
  }
  const upload = async (file: File | undefined) => {
    if (!file) return
    const bytes = new Uint8Array(await file.arrayBuffer())
    let binary = ''
    for (let i = 0; i < bytes.length; i += 0x8000) binary += String.fromCharCode(...bytes.subarray(i, i + 0x8000))
    onChange({ ...value, data: btoa(binary), text: undefined, answers: {} })
  }
  return (
    <Box sx={{ mt: 1.5, display: 'flex', flexDirection: 'column', gap: 1.5 }}>
      <TextField
        label="Paste the signature or the page here"
        value={there ? (value.text ?? 'A file was chosen.') : ''}
        multiline
        minRows={3}
        maxRows={6}
        onPaste={paste}
        onChange={(e) => onChange({ ...value, text: e.target.value, data: undefined, answers: {} })}
        helperText="A copy from a mail or a browser keeps its markup; source works too."
        slotProps={{ htmlInput: { spellCheck: false } }}
      />
      <Button component="label" sx={{ alignSelf: 'flex-start' }}>
        Or choose a file
        <input
          type="file"
          accept=".html,.htm,.mht,.mhtml,.eml,text/html"
          hidden
          onChange={(e) => {
            void upload(e.target.files?.[0])
            e.target.value = ''
          }}
        />
      </Button>
      <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', flexWrap: 'wrap' }}>
        <PersonPicker
          label="Whose signature it is"
          none="Nobody's"
          value={value.person ?? ''}
          onChange={(person) => onChange({ ...value, person, answers: {} })}
        />
        <FormControlLabel
          control={
            <Checkbox
              checked={value.clean ?? false}
              onChange={(e) => onChange({ ...value, clean: e.target.checked })}
            />
          }
          label="Clean it"
        />
      </Box>
      <Trouble error={would.error} />
      {would.data && (
        <Outcome
          preview={would.data}
          onAnswer={(id, answer) => onChange({ ...value, answers: { ...value.answers, [id]: answer } })}
        />
      )}
    </Box>
  )
}

/** What a page would become: fields found, questions, differences, and what cleaning did. */
function Outcome({ preview, onAnswer }: { preview: NewPreview; onAnswer: (id: string, answer: string) => void }) {
  const { recognised, cleaned } = preview
  return (
    <Box aria-label="What it becomes" component="section" sx={{ borderTop: 1, borderColor: 'divider', pt: 1.5 }}>
      <Typography>
        {preview.note || `Written in ${preview.charset}.`}
        {preview.pictures.length > 0 && ` Pictures that came along: ${preview.pictures.join(', ')}.`}
        {preview.missing.length > 0 && ` Pictures that did not: ${preview.missing.join(', ')}.`}
      </Typography>
      {recognised && (
        <>
          <Typography sx={{ mt: 1 }}>
            {count(recognised.found.length, 'value', 'values')} found; filled for the same person:{' '}
            {recognised.differences.length === 0
              ? 'the same text and links as the original.'
              : count(recognised.differences.length, 'difference', 'differences') + '.'}
          </Typography>
          <Box
            component="ul"
            aria-label="Values found"
            tabIndex={0}
            sx={{ m: 0, pl: 2.5, maxHeight: 150, overflow: 'auto' }}
          >
            {recognised.found.map((f) => (
              <li key={f.offset}>
                <bdi>{f.text}</bdi> is <code>{`{{ ${f.expression} }}`}</code>
              </li>
            ))}
          </Box>
          {recognised.questions.map((q) => (
            <TextField
              key={q.id}
              select
              size="small"
              fullWidth
              margin="dense"
              label={`“${q.text}” in “${q.context}” is`}
              value={q.chosen}
              onChange={(e) => onAnswer(q.id, e.target.value)}
              slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
            >
              {q.choices.map((c) => (
                <MenuItem key={c} value={c}>
                  {c === '' ? 'text, the same for everybody' : `{{ ${c} }}`}
                </MenuItem>
              ))}
            </TextField>
          ))}
          {recognised.differences.map((d) => (
            <Typography key={d.what + d.original} color="warning.main">
              △ The {d.what} “{d.original}” becomes “{d.filled}”.
            </Typography>
          ))}
          {recognised.remaining.length > 0 && (
            <>
              <Typography color="warning.main" sx={{ mt: 1 }}>
                △ This stays in it for everybody. Put fields in its place, or take it out:
              </Typography>
              <Box
                component="ul"
                aria-label="What stays of the person"
                tabIndex={0}
                sx={{ m: 0, pl: 2.5, maxHeight: 150, overflow: 'auto' }}
              >
                {recognised.remaining.map((r) => (
                  <li key={`${r.offset} ${r.where} ${r.text}`}>
                    <bdi>{r.text}</bdi> ({r.what}){r.line > 0 && `, line ${r.line}`}, in {r.where}
                  </li>
                ))}
              </Box>
            </>
          )}
          {recognised.notFound.length > 0 && (
            <Typography variant="body2" color="text.secondary">
              Not found in it: {recognised.notFound.join(', ')}.
            </Typography>
          )}
        </>
      )}
      {cleaned && <CleanFacts result={cleaned} />}
    </Box>
  )
}
