import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useCallback, useMemo, useRef, useState } from 'react'
import { useParams } from 'react-router'
import { api, type Finding, type TemplateDetail } from '../api/api'
import { Trouble, Warnings } from '../pages/parts'
import { Dialogs } from './Dialogs'
import type { Draft } from './draft'
import { BudgetGauges } from './Facts'
import { FactsPane, type FactsTab } from './FactsPane'
import { FilesMenu } from './FilesMenu'
import type { Bytes } from './LookFrame'
import { LookPane } from './LookPane'
import { Pane, Panes, PanesMenu, useClosed } from './Panes'
import { usePaused } from './paused'
import { PersonPicker } from './PersonPicker'
import { byteOffset } from './places'
import { plainView, useLook, useReport, type View } from './questions'
import type { Cursor, EditorHandle } from './SourceEditor'
import { SourcePane } from './SourcePane'
import { SpaceDrawing } from './SpaceDrawing'
import { dirty, useWorkbench } from './state'
import { SurvivalTable } from './SurvivalTable'
import { ClientPicker, Toolbar } from './Toolbar'

/** How long a pause in typing must be before the draft is looked at, in milliseconds. */
const pause = 120

const noFindings: Finding[] = []

export function WorkbenchPage() {
  const { name = '' } = useParams()
  const template = useQuery({ queryKey: ['template', name], queryFn: () => api.template(name), staleTime: Infinity })
  if (template.error)
    return (
      <Box sx={{ p: 3 }}>
        <Trouble error={template.error} />
      </Box>
    )
  if (!template.data) return <Typography sx={{ p: 3 }}>Opening {name} ...</Typography>
  return <Workbench key={name} template={template.data} />
}

function Workbench({ template }: { template: TemplateDetail }) {
  const { state, latest, act } = useWorkbench(template)
  const { draft } = state.revision
  const [sitter, setSitter] = useState({ person: template.sample, variant: template.variants[0] ?? 'new', client: '' })
  const [view, setView] = useState<View>(plainView)
  const [cursor, setCursor] = useState<Cursor>({ byte: 0, path: [] })
  const [tab, setTab] = useState<FactsTab>('findings')
  const [spaceClient, setSpaceClient] = useState('')
  const { closed, toggle } = useClosed()
  const editor = useRef<EditorHandle>(null)

  const later = usePaused(state.revision, pause)
  const report = useReport(template.name, later)
  const look = useLook(template.name, later, sitter, view)
  const known = useKnown(sitter.person)
  const queries = useQueryClient()
  const save = useMutation({
    mutationFn: ({ sent, note, base }: { sent: Draft; fixes: number; note: string; base: number }) =>
      api.save(template.name, { ...sent, note, base }),
    onSuccess: (version, { sent, fixes }) => {
      act({ type: 'saved', version, sent, fixes })
      queries.setQueryData(['template', template.name], version)
      void queries.invalidateQueries({ queryKey: ['templates'] })
    },
  })
  const saveNow = useCallback(() => {
    const now = latest()
    if (dirty(now) && !save.isPending)
      save.mutate({ sent: now.revision.draft, fixes: now.fixes.length, note: now.note, base: now.saved.number })
  }, [latest, save])
  const indent = useMutation({
    mutationFn: () => api.clean({ source: latest().revision.draft.source, indentOnly: true }),
    onSuccess: (r) => editor.current?.replaceAll(r.source),
  })

  const goTo = (place: Bytes) => {
    if (state.file !== 'html') act({ type: 'file chosen', file: 'html' })
    requestAnimationFrame(() => requestAnimationFrame(() => editor.current?.goTo(place)))
  }
  const goToLine = (line: number) => {
    const start = byteOffset(
      draft.source,
      draft.source
        .split('\n')
        .slice(0, line - 1)
        .join('\n').length + (line > 1 ? 1 : 0),
    )
    act({ type: 'closed' })
    goTo({ start, end: start })
  }
  const shrink = (client: string) => act({ type: 'opened', open: { what: 'shrink', client } })
  const close = () => act({ type: 'closed' })
  const pictures = Object.keys(draft.pictures)
  const error = save.error ?? report.error ?? known.error ?? indent.error

  return (
    <Box sx={{ height: { md: '100%' }, display: 'flex', flexDirection: 'column' }}>
      <Toolbar
        state={state}
        verdict={report.data?.verdict}
        saving={save.isPending}
        onNote={(note) => act({ type: 'noted', note })}
        onSave={saveNow}
        onVersions={() => act({ type: 'opened', open: { what: 'versions' } })}
      >
        <PersonPicker
          value={sitter.person}
          onChange={(person) => setSitter({ ...sitter, person })}
          template={template.name}
        />
        <TextField
          select
          size="small"
          label="Variant"
          value={sitter.variant}
          onChange={(e) => setSitter({ ...sitter, variant: e.target.value })}
          sx={{ width: 96 }}
        >
          {template.variants.map((v) => (
            <MenuItem key={v} value={v}>
              {v}
            </MenuItem>
          ))}
        </TextField>
        <ClientPicker value={sitter.client} onChange={(client) => setSitter({ ...sitter, client })} />
        <Button
          color="inherit"
          onClick={() => act({ type: 'opened', open: { what: 'sheet' } })}
          title="The signature as every client shows it, on one page"
        >
          Sheet
        </Button>
        <FilesMenu template={template.name} draft={draft} person={sitter.person} variant={sitter.variant} />
        <PanesMenu closed={closed} onToggle={toggle} />
      </Toolbar>
      {pictures.length > 0 && (
        <Typography role="status" variant="body2" sx={{ px: 2, py: 0.5, borderBottom: 1, borderColor: 'divider' }}>
          {`Pictures that a fix made, saved with the next version: ${pictures.join(', ')}.`}
          <Button size="small" onClick={() => act({ type: 'pictures put back' })} sx={{ ml: 1, py: 0 }}>
            Use the saved ones again
          </Button>
        </Typography>
      )}
      <Box sx={{ px: 2 }}>
        <Trouble error={error} />
        <Warnings of={state.saved.warnings} />
      </Box>
      <Dialogs
        state={state}
        sitter={sitter}
        onClose={close}
        onVersion={(version) => act({ type: 'version taken', version })}
        onClean={(source) => {
          editor.current?.replaceAll(source)
          close()
        }}
        onFixed={(fixed) => {
          const same = fixed.source === draft.source
          act({ type: 'fix taken', fixed })
          if (!same) editor.current?.replaceAll(fixed.source)
        }}
        onCell={({ client, row }) => {
          setSitter({ ...sitter, client })
          close()
          goTo({ start: row.offset, end: row.end })
        }}
        onSettings={(settings) => act({ type: 'settings taken', settings })}
        onLine={goToLine}
      />
      <Panes
        closed={closed}
        source={
          <SourcePane
            state={state}
            editor={editor}
            findings={report.data?.findings ?? noFindings}
            known={known.known}
            cursor={cursor}
            onFile={(file) => act({ type: 'file chosen', file })}
            onType={(text) => act({ type: 'typed', text })}
            onCursor={setCursor}
            onInsert={(text) => editor.current?.insert(text)}
            onGo={(place) => editor.current?.goTo(place)}
            onSave={saveNow}
            onIndent={() => indent.mutate()}
            onClean={() => act({ type: 'opened', open: { what: 'clean' } })}
          />
        }
        look={
          <LookPane
            look={look.data}
            error={look.error}
            client={sitter.client}
            view={view}
            onView={setView}
            cursor={state.file === 'html' ? cursor.byte : undefined}
            onPick={goTo}
            onClose={() => toggle('Look')}
          />
        }
        findings={
          <FactsPane
            tab={tab}
            onTab={setTab}
            onClose={() => toggle('Findings')}
            report={report.data}
            look={sitter.client ? look.data : undefined}
            onGo={(f) => goTo({ start: f.offset, end: f.end })}
            onFix={
              state.file === 'html' ? (finding) => act({ type: 'opened', open: { what: 'fix', finding } }) : undefined
            }
            map={
              <SurvivalTable
                template={template.name}
                revision={later}
                onGo={goTo}
                onCell={(client, row, cell) => act({ type: 'opened', open: { what: 'cell', client, row, cell } })}
              />
            }
            space={
              report.data && (
                <SpaceDrawing
                  template={template.name}
                  revision={later}
                  report={report.data}
                  client={spaceClient}
                  onClient={setSpaceClient}
                  onShrink={shrink}
                  onGo={goTo}
                />
              )
            }
          />
        }
        budgets={
          <Pane
            label="Budgets"
            onClose={() => toggle('Budgets')}
            head={
              <Typography sx={{ fontWeight: 600, px: 1.5 }}>
                Budgets, worst of {report.data?.people ?? 0} people
              </Typography>
            }
            scroll
          >
            {report.data && (
              <BudgetGauges
                report={report.data}
                onShrink={shrink}
                onSpace={(client) => {
                  setSpaceClient(client)
                  setTab('space')
                  if (closed.includes('Findings')) toggle('Findings')
                }}
              />
            )}
          </Pane>
        }
      />
    </Box>
  )
}

/** What completion and hovering know: the language's reference and the picked person's values. */
function useKnown(mail: string) {
  const fields = useQuery({ queryKey: ['fields'], queryFn: api.fields })
  const person = useQuery({
    queryKey: ['people', mail, 'values'],
    queryFn: () => api.person(mail),
    enabled: mail !== '',
  })
  const known = useMemo(
    () => ({
      reference: fields.data,
      values: person.data?.values ?? {},
      person: person.data ? person.data.name || mail : '',
    }),
    [fields.data, person.data, mail],
  )
  return { known, error: fields.error }
}
