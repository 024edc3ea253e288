import Autocomplete from '@mui/material/Autocomplete'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import MenuItem from '@mui/material/MenuItem'
import Tab from '@mui/material/Tab'
import Tabs from '@mui/material/Tabs'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useCallback, useEffect, useRef, useState, type ReactNode } from 'react'
import { useBlocker, useParams } from 'react-router'
import { api, type Finding, type Look, type PeoplePage, type Report, type TemplateDetail } from '../api/api'
import { Severity, Trouble } from '../pages/parts'
import { BudgetGauges, FindingsList, JourneyLog, summary } from './Facts'
import { LookFrame } from './LookFrame'
import { SourceEditor, type EditorHandle } from './SourceEditor'
import { VersionsDialog } from './VersionsDialog'

/** How long a pause in typing must be before the draft is looked at, in milliseconds. */
const pause = 120

export function WorkbenchPage() {
  const { name = '' } = useParams()
  const template = useQuery({ queryKey: ['template', name], queryFn: () => api.template(name), staleTime: Infinity })
  if (template.error) return <Box sx={{ p: 3 }}><Trouble error={template.error} /></Box>
  if (!template.data) return <Typography sx={{ p: 3 }}>Opening {name} ...</Typography>
  return <Workbench key={name} template={template.data} />
}

interface Draft {
  source: string
  settings: string
}

function Workbench({ template }: { template: TemplateDetail }) {
  const [saved, setSaved] = useState(template)
  const [draft, setDraft] = useState<Draft>({ source: template.source, settings: template.settings })
  const [file, setFile] = useState<'html' | 'yaml'>('html')
  const [person, setPerson] = useState<string>(template.sample)
  const [variant, setVariant] = useState(template.variants[0] ?? 'new')
  const [client, setClient] = useState('')
  const [opened, setOpened] = useState<Draft>(draft)
  const [taken, setTaken] = useState(0) // how often a version was taken: each begins a new editor
  const editor = useRef<EditorHandle>(null)
  const later = usePaused(draft, pause)
  const dirty = differs(draft, saved)
  const latest = useRef(draft) // what stands in the editor now; the state follows at the next drawing
  const edit = (next: Draft) => {
    latest.current = next
    setDraft(next)
  }

  const report = useQuery({
    queryKey: ['check', template.name, later],
    queryFn: ({ signal }) => api.check(template.name, later, signal),
    placeholderData: keepPreviousData,
    gcTime: 10_000,
  })
  const look = useQuery({
    queryKey: ['look', template.name, later, person, variant, client],
    queryFn: ({ signal }) => api.look(template.name, { ...later, person, variant, client }, signal),
    placeholderData: keepPreviousData,
    gcTime: 10_000,
  })
  const fields = useQuery({ queryKey: ['fields'], queryFn: api.fields })
  const queries = useQueryClient()
  const save = useMutation({
    mutationFn: (note: string) => api.save(template.name, { ...latest.current, note, base: saved.number }),
    onSuccess: (version) => {
      setSaved(version)
      setNote('')
      queries.setQueryData(['template', template.name], version)
      void queries.invalidateQueries({ queryKey: ['templates'] })
    },
  })
  const [note, setNote] = useState('')
  const saveNow = useCallback(() => {
    if (differs(latest.current, saved) && !save.isPending) save.mutate(note)
  }, [saved, save, note])
  const [history, setHistory] = useState(false)
  const take = (version: TemplateDetail) => {
    const content = { source: version.source, settings: version.settings }
    edit(content)
    setOpened(content)
    setTaken((n) => n + 1)
    setNote(`Back to version ${version.number}`)
    setHistory(false)
  }
  useLeaveGuard(dirty)

  const goTo = (finding: Finding) => {
    setFile('html')
    requestAnimationFrame(() => requestAnimationFrame(() => editor.current?.goTo(finding)))
  }
  const chooseFile = (next: 'html' | 'yaml') => {
    setOpened(draft)
    setFile(next)
  }

  return (
    <Box sx={{ height: { md: '100%' }, display: 'flex', flexDirection: 'column' }}>
      <Toolbar template={saved} dirty={dirty} saving={save.isPending} note={note} onNote={setNote} onSave={saveNow} onHistory={() => setHistory(true)}>
        <PersonPicker value={person} onChange={setPerson} />
        <TextField select size="small" label="Variant" value={variant} onChange={(e) => setVariant(e.target.value)} sx={{ width: 120 }}>
          {template.variants.map((v) => <MenuItem key={v} value={v}>{v}</MenuItem>)}
        </TextField>
        <ClientPicker value={client} onChange={setClient} />
      </Toolbar>
      {history && <VersionsDialog name={template.name} onTake={take} onClose={() => setHistory(false)} />}
      {(save.error || report.error || fields.error) && <Box sx={{ px: 2 }}><Trouble error={save.error ?? report.error ?? fields.error} /></Box>}
      <Box sx={{ flex: 1, minHeight: 0, display: 'grid', gridTemplateColumns: { xs: '1fr', md: 'minmax(0, 54fr) minmax(0, 46fr)' }, gridTemplateRows: { xs: '420px 360px auto auto', md: 'minmax(0, 58fr) minmax(0, 42fr)' } }}>
        <Pane
          label="Source"
          head={
            <Tabs value={file} onChange={(_, v: 'html' | 'yaml') => chooseFile(v)} aria-label="File" sx={{ minHeight: 34, '& .MuiTab-root': { minHeight: 34, py: 0, textTransform: 'none' } }}>
              <Tab value="html" label="template.html" />
              <Tab value="yaml" label="template.yaml" />
            </Tabs>
          }
        >
          <SourceEditor
            key={`${file} ${taken}`}
            ref={editor}
            language={file}
            initial={file === 'html' ? opened.source : opened.settings}
            findings={report.data?.findings ?? noFindings}
            fields={fields.data}
            onChange={(text) => edit({ ...latest.current, [file === 'html' ? 'source' : 'settings']: text })}
            onSave={saveNow}
          />
        </Pane>
        <Pane label="Look" head={<LookHead look={look.data} client={client} />}>
          {look.error ? <Box sx={{ p: 1.5 }}><Trouble error={look.error} /></Box> : look.data && <LookFrame look={look.data} title={client ? `As ${client} shows it` : 'As written'} />}
        </Pane>
        <Facts report={report.data} look={client ? look.data : undefined} onGo={goTo} />
        <Pane label="Budgets" head={<Typography sx={{ fontWeight: 600, px: 1.5 }}>Budgets, worst of {report.data?.people ?? 0} people</Typography>} scroll>
          {report.data && <BudgetGauges report={report.data} />}
        </Pane>
      </Box>
    </Box>
  )
}

const noFindings: Finding[] = []

function differs(draft: Draft, saved: TemplateDetail): boolean {
  return draft.source !== saved.source || draft.settings !== saved.settings
}

/** The value as it was when it last did not change for a while. */
function usePaused<T>(value: T, delay: number): T {
  const [settled, setSettled] = useState(value)
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), delay)
    return () => clearTimeout(timer)
  }, [value, delay])
  return settled
}

/** Asks before unsaved work is left. */
function useLeaveGuard(dirty: boolean) {
  useEffect(() => {
    if (!dirty) return
    const ask = (e: BeforeUnloadEvent) => e.preventDefault()
    window.addEventListener('beforeunload', ask)
    return () => window.removeEventListener('beforeunload', ask)
  }, [dirty])
}

interface ToolbarProps {
  template: TemplateDetail
  dirty: boolean
  saving: boolean
  note: string
  onNote: (note: string) => void
  onSave: () => void
  onHistory: () => void
  children: ReactNode
}

function Toolbar({ template, dirty, saving, note, onNote, onSave, onHistory, children }: ToolbarProps) {
  const blocker = useBlocker(dirty)
  return (
    <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, px: 2, py: 1, flexWrap: 'wrap', borderBottom: 1, borderColor: 'divider' }}>
      <Box sx={{ mr: 'auto' }}>
        <Typography variant="h2" component="h1">{template.title}</Typography>
        <Typography variant="body2" color="text.secondary" aria-live="polite">
          Version {template.number}{dirty ? ', with changes not saved' : ', saved'}
        </Typography>
      </Box>
      {children}
      {dirty && <TextField size="small" label="What changed" value={note} onChange={(e) => onNote(e.target.value)} sx={{ width: 150 }} />}
      <Button color="inherit" onClick={onHistory}>Versions</Button>
      <Button variant="contained" disabled={!dirty || saving} onClick={onSave} title="Ctrl+S">Save a version</Button>
      {blocker.state === 'blocked' && (
        <Dialog open onClose={() => blocker.reset()} aria-labelledby="leave">
          <DialogTitle id="leave">Leave without saving?</DialogTitle>
          <DialogContent>What you changed since version {template.number} is lost when you leave.</DialogContent>
          <DialogActions>
            <Button onClick={() => blocker.proceed()} color="error">Leave and lose it</Button>
            <Button onClick={() => blocker.reset()} variant="contained" autoFocus>Stay</Button>
          </DialogActions>
        </Dialog>
      )}
    </Box>
  )
}

interface Choice {
  mail: string
  name: string
  group: 'To begin with' | 'Hard cases' | 'Everybody'
  why?: string
}

const fieldNames: Choice = { mail: '', name: 'Field names', group: 'To begin with' }

/** Everybody to choose from, first those who strain a template, with the reason. */
function PersonPicker({ value, onChange }: { value: string; onChange: (mail: string) => void }) {
  const [text, setText] = useState('')
  const search = usePaused(text, 150)
  const people = useQuery({ queryKey: ['people', search, 'picker'], queryFn: () => api.people(search, 0, 100), placeholderData: keepPreviousData })
  const hard = useQuery({ queryKey: ['people', 'hard cases'], queryFn: api.hardCases })
  const cases: Choice[] = (hard.data ?? []).map((h) => ({ mail: h.mail, name: h.name || h.mail, group: 'Hard cases', why: h.reasons.join('; ') }))
  const found = [fieldNames, ...everybody(people.data), ...cases].find((o) => o.mail === value)
  const current: Choice = { mail: value, name: found?.name ?? value, group: 'To begin with' }
  const first = value === '' ? [fieldNames] : [current, fieldNames]
  const options = search ? everybody(people.data) : [...first, ...cases, ...everybody(people.data)]
  return (
    <Autocomplete<Choice, false, true>
      size="small"
      sx={{ width: 220 }}
      options={options}
      value={current}
      disableClearable
      filterOptions={(all) => all}
      groupBy={(o) => o.group}
      getOptionLabel={(o) => o.name}
      getOptionKey={(o) => `${o.group} ${o.mail}`}
      isOptionEqualToValue={(a, b) => a.mail === b.mail}
      onChange={(_, o) => onChange(o.mail)}
      onInputChange={(_, v, reason) => setText(reason === 'input' ? v : '')}
      slotProps={{ popper: { sx: { minWidth: 400 } } }}
      renderOption={({ key, ...props }, o) => (
        <Box component="li" key={key} {...props} sx={{ display: 'block !important' }}>
          <bdi>{o.name}</bdi>
          {o.why && <Typography variant="body2" color="text.secondary">{o.why}</Typography>}
        </Box>
      )}
      renderInput={(props) => <TextField {...props} label="Person" />}
    />
  )
}

function everybody(page?: PeoplePage): Choice[] {
  if (!page) return []
  const cn = page.fields.findIndex((f) => f.name === 'cn')
  return page.people.map((p) => ({ mail: p.mail, name: p.values[cn] || p.mail, group: 'Everybody' }))
}

function ClientPicker({ value, onChange }: { value: string; onChange: (id: string) => void }) {
  const clients = useQuery({ queryKey: ['clients'], queryFn: api.clients, staleTime: Infinity })
  return (
    <TextField select size="small" label="Shown as" value={clients.data ? value : ''} onChange={(e) => onChange(e.target.value)} sx={{ width: 190 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
      <MenuItem value="">As written</MenuItem>
      {(clients.data ?? []).map((c) => <MenuItem key={c.id} value={c.id}>{c.id}</MenuItem>)}
    </TextField>
  )
}

function LookHead({ look, client }: { look?: Look; client: string }) {
  return (
    <Typography sx={{ px: 1.5, fontWeight: 600 }}>
      {client ? `As ${client} shows it` : 'Look, as written'}
      {look && look.width > 0 && <Box component="span" sx={{ fontWeight: 400, color: 'text.secondary' }}> at {look.width} px</Box>}
    </Typography>
  )
}

function Facts({ report, look, onGo }: { report?: Report; look?: Look; onGo: (f: Finding) => void }) {
  const [tab, setTab] = useState<'findings' | 'journey'>('findings')
  const shown = look ? tab : 'findings'
  return (
    <Pane
      label="Findings"
      scroll
      head={
        <>
          <Tabs value={shown} onChange={(_, v: 'findings' | 'journey') => setTab(v)} aria-label="Facts" sx={{ minHeight: 34, '& .MuiTab-root': { minHeight: 34, py: 0, textTransform: 'none' } }}>
            <Tab value="findings" label="Findings" />
            {look && <Tab value="journey" label="On the way there" />}
          </Tabs>
          {report && (
            <Box sx={{ ml: 'auto', pr: 1.5 }} aria-live="polite">
              <Severity of={report.findings.some((f) => f.severity === 'breaks') ? 'breaks' : 'fine'}>{summary(report)}</Severity>
            </Box>
          )}
        </>
      }
    >
      {shown === 'journey' && look ? <JourneyLog look={look} /> : report && <FindingsList report={report} onGo={onGo} />}
    </Pane>
  )
}

function Pane({ label, head, children, scroll }: { label: string; head: ReactNode; children: ReactNode; scroll?: boolean }) {
  return (
    <Box component="section" aria-label={label} sx={{ display: 'flex', flexDirection: 'column', minHeight: 0, minWidth: 0, borderRight: 1, borderBottom: 1, borderColor: 'divider' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', minHeight: 35, borderBottom: 1, borderColor: 'divider', flexShrink: 0 }}>{head}</Box>
      <Box tabIndex={scroll ? 0 : undefined} sx={{ flex: 1, minHeight: 0, overflow: scroll ? 'auto' : 'hidden', bgcolor: 'background.paper' }}>{children}</Box>
    </Box>
  )
}
