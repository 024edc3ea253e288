import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import ButtonBase from '@mui/material/ButtonBase'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import Popover from '@mui/material/Popover'
import MenuItem from '@mui/material/MenuItem'
import Tab from '@mui/material/Tab'
import Tabs from '@mui/material/Tabs'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useCallback, useEffect, useMemo, useRef, useState, type ReactNode } from 'react'
import { useBlocker, useParams } from 'react-router'
import { api, type Finding, type Look, type MapCell, type MapRow, type Fixed, type Report, type TemplateDetail } from '../api/api'
import { Severity, Trouble } from '../pages/parts'
import { BudgetGauges, FindingsList, JourneyLog, sentence, summary } from './Facts'
import { CellDialog } from './CellDialog'
import { contentOf, differs, draftOf, files, withContent, withoutPictures, withSource, type Draft, type File, type Taken } from './draft'
import { FilesMenu } from './FilesMenu'
import { ShrinkDialog } from './ShrinkDialog'
import { InsertMenu } from './InsertMenu'
import { LookFrame, type Bytes } from './LookFrame'
import { usePaused } from './paused'
import { byteOffset } from './places'
import { FixDialog } from './FixDialog'
import { PersonPicker } from './PersonPicker'
import { RoomDrawing } from './RoomDrawing'
import { SheetDialog } from './SheetDialog'
import { SourceEditor, type Cursor, type EditorHandle } from './SourceEditor'
import { SurvivalTable } from './SurvivalTable'
import { CleanDialog } from './CleanDialog'
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

function Workbench({ template }: { template: TemplateDetail }) {
  const [saved, setSaved] = useState(template)
  const [draft, setDraft] = useState<Draft>(draftOf(template))
  const [file, setFile] = useState<File>('html')
  const [person, setPerson] = useState<string>(template.sample)
  const [variant, setVariant] = useState(template.variants[0] ?? 'new')
  const [client, setClient] = useState('')
  const [view, setView] = useState<View>({ dark: false, blocked: false })
  const [zoom, setZoom] = useState(100)
  const [opened, setOpened] = useState<Draft>(draft)
  const [cursor, setCursor] = useState<Cursor>({ byte: 0, path: [] })
  const [cleaning, setCleaning] = useState(false)
  const [fixing, setFixing] = useState<Finding | 'all' | null>(null)
  const [cell, setCell] = useState<Cell | null>(null)
  const [shrinking, setShrinking] = useState('')
  const [sheet, setSheet] = useState(false)
  const [tab, setTab] = useState<FactsTab>('findings')
  const [roomClient, setRoomClient] = useState('')
  const [taken, setTaken] = useState(0) // how often a version was taken: each begins a new editor
  const editor = useRef<EditorHandle>(null)
  const later = usePaused(draft, pause)
  const dirty = differs(draft, saved)
  const latest = useRef(draft) // what stands in the editor now; the state follows at the next drawing
  const fixes = useRef<Taken[]>([]) // the latest first
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
    queryKey: ['look', template.name, later, person, variant, client, view],
    queryFn: ({ signal }) => api.look(template.name, { ...later, person, variant, client, ...(client ? view : {}) }, signal),
    placeholderData: keepPreviousData,
    gcTime: 10_000,
  })
  const fields = useQuery({ queryKey: ['fields'], queryFn: api.fields })
  const snapshot = useQuery({ queryKey: ['people', person, 'values'], queryFn: () => api.people(person, 0, 5), enabled: person !== '' })
  const known = useMemo(() => {
    const values: Record<string, string> = {}
    const somebody = snapshot.data?.people.find((p) => p.mail === person)
    snapshot.data?.fields.forEach((f, i) => { values[f.name] = somebody?.values[i] ?? '' })
    return { reference: fields.data, values, person: somebody ? values['cn'] || person : '' }
  }, [fields.data, snapshot.data, person])
  const queries = useQueryClient()
  const save = useMutation({
    mutationFn: ({ sent, note }: { sent: Draft; fixed: number; note: string }) => api.save(template.name, { ...sent, note, base: saved.number }),
    onSuccess: (version, { sent, fixed }) => {
      setSaved(version)
      edit(withoutPictures(latest.current, sent.pictures)) // they are the version's now
      fixes.current = fixes.current.slice(0, fixes.current.length - fixed) // those taken meanwhile
      setNote('')
      queries.setQueryData(['template', template.name], version)
      void queries.invalidateQueries({ queryKey: ['templates'] })
    },
  })
  const [note, setNote] = useState('')
  const saveNow = useCallback(() => {
    if (differs(latest.current, saved) && !save.isPending) save.mutate({ sent: latest.current, fixed: fixes.current.length, note })
  }, [saved, save, note])
  const [history, setHistory] = useState(false)
  const take = (version: TemplateDetail) => {
    const content = draftOf(version)
    edit(content)
    setOpened(content)
    setTaken((n) => n + 1)
    setNote(`Back to version ${version.number}`)
    setHistory(false)
  }
  useLeaveGuard(dirty)

  const goTo = (place: Bytes) => {
    if (file !== 'html') chooseFile('html')
    requestAnimationFrame(() => requestAnimationFrame(() => editor.current?.goTo(place)))
  }
  const chooseFile = (next: File) => {
    setOpened(latest.current)
    setFile(next)
  }
  const takeSettings = (settings: string) => {
    const next = { ...latest.current, settings }
    edit(next)
    setOpened(next)
    if (file === 'yaml') setTaken((n) => n + 1)
    setShrinking('')
  }
  const toLine = (line: number) => {
    const start = byteOffset(draft.source, draft.source.split('\n').slice(0, line - 1).join('\n').length + (line > 1 ? 1 : 0))
    setShrinking('')
    goTo({ start, end: start })
  }
  const replaceSource = (text: string) => {
    if (file === 'html') editor.current?.replaceAll(text)
    setCleaning(false)
  }
  const putPicturesBack = () => {
    const first = fixes.current.at(-1)
    const settings = first && latest.current.settings === fixes.current[0]?.after.settings ? first.before.settings : latest.current.settings
    edit({ ...latest.current, settings, pictures: {} })
  }
  const takeFixed = (fixed: Fixed) => {
    const before = latest.current
    const after = { ...before, source: fixed.source, settings: fixed.settings, pictures: { ...before.pictures, ...fixed.pictures } }
    fixes.current = [{ before, after }, ...fixes.current]
    edit(after)
    editor.current?.replaceAll(fixed.source)
    setFixing(null)
  }
  const format = useMutation({ mutationFn: () => api.clean({ source: latest.current.source, indentOnly: true }), onSuccess: (r) => editor.current?.replaceAll(r.source) })

  return (
    <Box sx={{ height: { md: '100%' }, display: 'flex', flexDirection: 'column' }}>
      <Toolbar template={saved} dirty={dirty} verdict={report.data && sentence(report.data.verdict)} saving={save.isPending} note={note} onNote={setNote} onSave={saveNow} onHistory={() => setHistory(true)}>
        <PersonPicker value={person} onChange={setPerson} template={template.name} />
        <TextField select size="small" label="Variant" value={variant} onChange={(e) => setVariant(e.target.value)} sx={{ width: 96 }}>
          {template.variants.map((v) => <MenuItem key={v} value={v}>{v}</MenuItem>)}
        </TextField>
        <ClientPicker value={client} onChange={setClient} />
        <Button color="inherit" onClick={() => setSheet(true)} title="The signature as every client shows it, on one page">Sheet</Button>
        <FilesMenu template={template.name} draft={later} person={person} variant={variant} />
      </Toolbar>
      {Object.keys(draft.pictures).length > 0 && (
        <Typography role="status" variant="body2" sx={{ px: 2, py: 0.5, borderBottom: 1, borderColor: 'divider' }}>
          {`Pictures that a fix made, saved with the next version: ${Object.keys(draft.pictures).join(', ')}.`}
          <Button size="small" onClick={putPicturesBack} sx={{ ml: 1, py: 0 }}>Put the saved ones back</Button>
        </Typography>
      )}
      {history && <VersionsDialog template={saved} draft={draft} person={person} variant={variant} onTake={take} onClose={() => setHistory(false)} />}
      {cleaning && <CleanDialog source={draft.source} onTake={replaceSource} onClose={() => setCleaning(false)} />}
      {fixing && <FixDialog template={template.name} draft={draft} finding={fixing === 'all' ? undefined : fixing} onTake={takeFixed} onClose={() => setFixing(null)} />}
      {cell && (
        <CellDialog
          template={template.name} draft={later} person={person} variant={variant} {...cell} onClose={() => setCell(null)}
          onTake={() => {
            setClient(cell.client)
            goTo({ start: cell.row.offset, end: cell.row.end })
            setCell(null)
          }}
        />
      )}
      {shrinking && <ShrinkDialog template={template.name} draft={draft} client={shrinking} onTake={takeSettings} onGo={toLine} onClose={() => setShrinking('')} />}
      {sheet && <SheetDialog template={template.name} draft={draft} person={person} variant={variant} onClose={() => setSheet(false)} />}
      {(save.error || report.error || fields.error || format.error) && <Box sx={{ px: 2 }}><Trouble error={save.error ?? report.error ?? fields.error ?? format.error} /></Box>}
      <Box sx={{ flex: 1, minHeight: 0, display: 'grid', gridTemplateColumns: { xs: '1fr', md: 'minmax(0, 54fr) minmax(0, 46fr)' }, gridTemplateRows: { xs: '420px 360px auto auto', md: 'minmax(0, 58fr) minmax(0, 42fr)' } }}>
        <Pane
          label="Source"
          head={
            <>
              <Tabs value={file} onChange={(_, v: File) => chooseFile(v)} aria-label="File" sx={{ minHeight: 34, '& .MuiTab-root': { minHeight: 34, py: 0, textTransform: 'none' } }}>
                <Tab value="html" label={files.html} />
                <Tab value="yaml" label={files.yaml} />
                <Tab value="text" label={files.text} />
              </Tabs>
              <Box sx={{ ml: 'auto', pr: 1, display: 'flex', whiteSpace: 'nowrap' }}>
                {file !== 'yaml' && <InsertMenu known={known} onInsert={(text) => editor.current?.insert(text)} />}
                {file === 'html' && <Button size="small" color="inherit" onClick={() => format.mutate()} title="Shift+Alt+F">Indent</Button>}
                {file === 'html' && <Button size="small" color="inherit" onClick={() => setCleaning(true)}>Clean</Button>}
              </Box>
            </>
          }
          foot={file === 'html' && <PathOfCursor cursor={cursor} onGo={(place) => editor.current?.goTo(place)} source={draft.source} />}
        >
          {file === 'text' && !draft.texts[files.text] && (
            <Typography variant="body2" color="text.secondary" sx={{ px: 1.5, py: 0.8 }}>
              The text form follows from the markup. What you write here takes its place: the same fields, line by line; a line goes when all its fields are blank.
            </Typography>
          )}
          <SourceEditor
            key={`${file} ${taken}`}
            ref={editor}
            language={file}
            initial={contentOf(opened, file)}
            findings={report.data?.findings ?? noFindings}
            known={known}
            onChange={(text) => edit(file === 'html' ? withSource(latest.current, text, fixes.current) : withContent(latest.current, file, text))}
            onCursor={setCursor}
            onSave={saveNow}
            onFormat={() => format.mutate()}
          />
        </Pane>
        <Pane label="Look" head={<LookHead look={look.data} client={client} view={view} onView={setView} zoom={zoom} onZoom={setZoom} />}>
          {look.error ? <Box sx={{ p: 1.5 }}><Trouble error={look.error} /></Box> : look.data && <LookFrame look={look.data} title={client ? `As ${client} shows it` : 'As written'} zoom={zoom} cursor={file === 'html' ? cursor.byte : undefined} onPick={goTo} />}
        </Pane>
        <Facts
          tab={tab} onTab={setTab}
          report={report.data} look={client ? look.data : undefined} onGo={(f) => goTo({ start: f.offset, end: f.end })}
          onFix={file === 'html' ? setFixing : undefined}
          map={<SurvivalTable template={template.name} draft={later} onGo={goTo} onCell={(id, row, c) => setCell({ client: id, row, cell: c })} />}
          room={report.data && <RoomDrawing template={template.name} draft={later} report={report.data} client={roomClient} onClient={setRoomClient} onShrink={setShrinking} onGo={goTo} />}
        />
        <Pane label="Budgets" head={<Typography sx={{ fontWeight: 600, px: 1.5 }}>Budgets, worst of {report.data?.people ?? 0} people</Typography>} scroll>
          {report.data && <BudgetGauges
              report={report.data}
              onShrink={setShrinking}
              onRoom={(id) => {
                setRoomClient(id)
                setTab('room')
              }}
            />}
        </Pane>
      </Box>
    </Box>
  )
}

const noFindings: Finding[] = []

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
  verdict?: string
  saving: boolean
  note: string
  onNote: (note: string) => void
  onSave: () => void
  onHistory: () => void
  children: ReactNode
}

function Toolbar({ template, dirty, verdict, saving, note, onNote, onSave, onHistory, children }: ToolbarProps) {
  const blocker = useBlocker(dirty)
  const [noting, setNoting] = useState<HTMLElement | null>(null)
  return (
    <Box sx={{ display: 'flex', alignItems: 'center', gap: 1, px: 2, py: 1, flexWrap: 'wrap', '& > button': { minWidth: 0 }, borderBottom: 1, borderColor: 'divider' }}>
      <Box sx={{ mr: 'auto' }}>
        <Typography variant="h2" component="h1">{template.title}</Typography>
        <Typography variant="body2" color="text.secondary" aria-live="polite">
          Version {template.number}{dirty ? ', with changes not saved' : ', saved'}{verdict && <Box component="span" title={verdict}>. {verdict.split(';')[0]}</Box>}
        </Typography>
      </Box>
      {children}
      <Button color="inherit" onClick={onHistory}>Versions</Button>
      <Button color="inherit" onClick={(e) => setNoting(e.currentTarget)} title="What changed, kept with the next version">{note ? 'Note ✓' : 'Note'}</Button>
      <Popover open={noting !== null} anchorEl={noting} onClose={() => setNoting(null)} anchorOrigin={{ vertical: 'bottom', horizontal: 'right' }} transformOrigin={{ vertical: 'top', horizontal: 'right' }} slotProps={{ paper: { role: 'dialog', 'aria-label': 'Note' } }}>
        <Box component="form" sx={{ p: 2, display: 'flex', flexDirection: 'column', gap: 1.5, width: 300 }} onSubmit={(e) => { e.preventDefault(); setNoting(null) }}>
          <TextField size="small" label="What changed" value={note} onChange={(e) => onNote(e.target.value)} autoFocus />
          <Typography variant="body2" color="text.secondary">It is kept with the next version that you save.</Typography>
          <Button type="submit" sx={{ alignSelf: 'flex-end' }}>Done</Button>
        </Box>
      </Popover>
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

function ClientPicker({ value, onChange }: { value: string; onChange: (id: string) => void }) {
  const clients = useQuery({ queryKey: ['clients'], queryFn: api.clients, staleTime: Infinity })
  return (
    <TextField select size="small" label="Shown as" value={clients.data ? value : ''} onChange={(e) => onChange(e.target.value)} sx={{ width: 170 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
      <MenuItem value="">As written</MenuItem>
      {(clients.data ?? []).map((c) => <MenuItem key={c.id} value={c.id}>{c.id}</MenuItem>)}
    </TextField>
  )
}

/** A cell of the survival map. */
interface Cell {
  client: string
  row: MapRow
  cell: MapCell
}

/** How the reader looks at a message. */
interface View {
  dark: boolean
  blocked: boolean
}

function LookHead({ look, client, view, onView, zoom, onZoom }: { look?: Look; client: string; view: View; onView: (view: View) => void; zoom: number; onZoom: (percent: number) => void }) {
  const toggle = { '&[aria-pressed=true]': { bgcolor: 'action.selected' } }
  return (
    <>
      <Typography noWrap sx={{ px: 1.5, fontWeight: 600, minWidth: 0 }} title={client ? `As ${client} shows it` : undefined}>
        {client ? `As ${client}` : 'Look, as written'}
        {look && look.width > 0 && <Box component="span" sx={{ fontWeight: 400, color: 'text.secondary' }}> at {look.width} px</Box>}
      </Typography>
      <Box sx={{ ml: 'auto', pr: 1, display: 'flex', whiteSpace: 'nowrap', alignItems: 'center' }}>
        {client && (
        <>
          <Button size="small" color="inherit" aria-pressed={view.dark} onClick={() => onView({ ...view, dark: !view.dark })} sx={toggle}>Dark mode</Button>
          <Button size="small" color="inherit" aria-pressed={view.blocked} onClick={() => onView({ ...view, blocked: !view.blocked })} sx={toggle}>Pictures blocked</Button>
        </>
        )}
        <TextField select variant="standard" size="small" value={zoom} onChange={(e) => onZoom(Number(e.target.value))} slotProps={{ input: { disableUnderline: true, sx: { fontSize: 13 } }, htmlInput: { 'aria-label': 'Zoom' } }} sx={{ ml: 1, width: 68 }}>
          {zooms.map((z) => <MenuItem key={z} value={z}>{`${z} %`}</MenuItem>)}
        </TextField>
      </Box>
    </>
  )
}

const zooms = [75, 100, 125, 150, 200]

type FactsTab = 'findings' | 'map' | 'room' | 'journey'

interface FactsProps {
  tab: FactsTab
  onTab: (tab: FactsTab) => void
  report?: Report
  look?: Look
  onGo: (f: Finding) => void
  /** Not while another file than the source is shown: what is fixed is the source. */
  onFix?: (what: Finding | 'all') => void
  map: ReactNode
  room: ReactNode
}

function Facts({ tab, onTab, report, look, onGo, onFix, map, room }: FactsProps) {
  const shown = tab === 'journey' && !look ? 'findings' : tab
  const fixes = report?.findings.filter((f) => f.fix?.safe).length ?? 0
  return (
    <Pane
      label="Findings"
      scroll
      head={
        <>
          <Tabs value={shown} onChange={(_, v: FactsTab) => onTab(v)} aria-label="Facts" sx={{ minHeight: 34, '& .MuiTab-root': { minHeight: 34, py: 0, textTransform: 'none' } }}>
            <Tab value="findings" label="Findings" />
            <Tab value="map" label="Survival" />
            <Tab value="room" label="Room" />
            {look && <Tab value="journey" label="On the way there" />}
          </Tabs>
          {report && (
            <Box sx={{ ml: 'auto', pr: 1.5, display: 'flex', alignItems: 'center', gap: 1 }} aria-live="polite">
              {fixes > 0 && onFix && <Button size="small" onClick={() => onFix('all')}>{`Fix ${fixes}`}</Button>}
              <Severity of={report.findings.some((f) => f.severity === 'breaks') ? 'breaks' : 'fine'}>{summary(report)}</Severity>
            </Box>
          )}
        </>
      }
    >
      {shown === 'map' && map}
      {shown === 'room' && room}
      {shown === 'journey' && look && <JourneyLog look={look} />}
      {shown === 'findings' && report && <FindingsList report={report} onGo={onGo} onFix={onFix} />}
    </Pane>
  )
}

/** The elements around the cursor; a press goes to one. */
function PathOfCursor({ cursor, source, onGo }: { cursor: Cursor; source: string; onGo: (place: Bytes) => void }) {
  return (
    <Box component="nav" aria-label="Elements around the cursor" sx={{ display: 'flex', overflowX: 'auto', minHeight: 26, px: 1, borderTop: 1, borderColor: 'divider', fontSize: 12.5, alignItems: 'center' }}>
      {cursor.path.map((step, i) => (
        <Box key={`${step.from} ${i}`} sx={{ display: 'flex', alignItems: 'center', color: 'text.secondary' }}>
          {i > 0 && <span aria-hidden="true">›</span>}
          <ButtonBase onClick={() => onGo({ start: byteOffset(source, step.from), end: byteOffset(source, step.to) })} sx={{ font: 'inherit', px: 0.7, py: 0.3, color: 'text.primary' }}>{step.name}</ButtonBase>
        </Box>
      ))}
    </Box>
  )
}

function Pane({ label, head, foot, children, scroll }: { label: string; head: ReactNode; foot?: ReactNode; children: ReactNode; scroll?: boolean }) {
  return (
    <Box component="section" aria-label={label} sx={{ display: 'flex', flexDirection: 'column', minHeight: 0, minWidth: 0, borderRight: 1, borderBottom: 1, borderColor: 'divider' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', minHeight: 35, borderBottom: 1, borderColor: 'divider', flexShrink: 0 }}>{head}</Box>
      <Box tabIndex={scroll ? 0 : undefined} sx={{ flex: 1, minHeight: 0, overflow: scroll ? 'auto' : 'hidden', bgcolor: 'background.paper' }}>{children}</Box>
      {foot}
    </Box>
  )
}
