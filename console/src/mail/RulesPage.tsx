import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import Link from '@mui/material/Link'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState, type ReactNode } from 'react'
import { Link as RouterLink } from 'react-router'
import { Act, Lacking } from '../access/session'
import { api, type MailRule, type MailRuleFile, type MailRules } from '../api/api'
import { Page, Trouble, when } from '../pages/parts'
import { ActingField, useActing } from '../releases/acting'
import { codeFont } from '../theme'
import { usePaused } from '../workbench/paused'
import { PersonPicker } from '../workbench/PersonPicker'
import { MailHead, outcomeColour } from './MailHead'
import { RuleEditor } from './RuleEditor'

/** Which messages are stamped with what, beside a mail server. */
export function RulesPage() {
  const stored = useQuery({ queryKey: ['mail rules'], queryFn: () => api.mailRules() })
  return (
    <Page>
      <MailHead title="Mail rules">
        Which messages get which signature when they pass a mail server. The first rule that applies decides. Rules are
        used when a release that holds them is out.
      </MailHead>
      <Lacking permission="mail-rules">Changing the mail rules</Lacking>
      <Pause />
      <Trouble error={stored.error} />
      {stored.data && <Rules key={stored.data.number} stored={stored.data} />}
    </Page>
  )
}

/** Whether gateways stamp at all, with the way out in one press. */
function Pause() {
  const queries = useQueryClient()
  const pause = useQuery({ queryKey: ['mail rules pause'], queryFn: api.mailRulesPause })
  const [as] = useActing()
  const [asking, setAsking] = useState(false)
  const [says, setSays] = useState('')
  const put = useMutation({
    mutationFn: (paused: boolean) => api.putMailRulesPause(paused, says, as),
    onSuccess: () => {
      setAsking(false)
      void queries.invalidateQueries()
    },
  })
  const p = pause.data
  if (!p) return <Trouble error={pause.error} />
  return (
    <Box sx={{ mb: 3 }}>
      {p.paused ? (
        <Alert
          severity="warning"
          variant="outlined"
          action={
            <Act needs="mail-rules" color="inherit" onClick={() => put.mutate(false)}>
              Let them work again
            </Act>
          }
        >
          Mail rules are paused by {p.by}
          {p.since && ` since ${when(p.since)}`}
          {p.says && `: ${p.says}`}. Gateways leave every message as it is.
        </Alert>
      ) : (
        <Box sx={{ display: 'flex', gap: 1.5, alignItems: 'center', flexWrap: 'wrap' }}>
          <InForce />
          <Box sx={{ flex: 1 }} />
          {asking ? (
            <>
              <TextField size="small" label="Why" value={says} onChange={(e) => setSays(e.target.value)} />
              <Button variant="contained" onClick={() => put.mutate(true)}>
                Pause all gateways
              </Button>
              <Button onClick={() => setAsking(false)}>Go on stamping</Button>
            </>
          ) : (
            <Act needs="mail-rules" color="inherit" variant="outlined" onClick={() => setAsking(true)}>
              Pause
            </Act>
          )}
        </Box>
      )}
      <Trouble error={put.error} />
    </Box>
  )
}

/** Which version gateways use. */
function InForce() {
  const releases = useQuery({ queryKey: ['releases'], queryFn: api.releases })
  const latest = useQuery({ queryKey: ['mail rules'], queryFn: () => api.mailRules() })
  if (!releases.data || !latest.data) return null
  const out = releases.data.find((r) => r.state === 'out' && r.rules > 0)
  const number = latest.data.number
  const link = (to: string, text: string) => (
    <Link component={RouterLink} to={to}>
      {text}
    </Link>
  )
  return (
    <Typography>
      {out ? (
        <>
          Gateways use version {out.rules}, by {link(`/releases/${out.id}`, `release ${out.id}`)}
          {out.rules === number ? ', the latest.' : '. '}
          {out.rules !== number && (
            <>
              Version {number} is used when it is {link('/releases', 'released')}.
            </>
          )}
        </>
      ) : (
        <>Gateways stamp nothing yet: no {link('/releases', 'release')} with mail rules is out.</>
      )}
    </Typography>
  )
}

const trial: MailRule = {
  name: 'new-rule',
  state: 'trial',
  when: { direction: 'outgoing' },
  then: { place: 'newest', unsure: 'end', already: 'leave', closed: 'send', text: 'text', failure: 'send' },
}

/** What is edited: the document, and what it means. */
interface Draft {
  document: string
  file?: MailRuleFile // what was changed beyond the document; undefined for nothing
}

function Rules({ stored }: { stored: MailRules }) {
  const queries = useQueryClient()
  const audiences = useQuery({ queryKey: ['audiences'], queryFn: api.audiences })
  const templates = useQuery({ queryKey: ['templates'], queryFn: api.templates })
  const [draft, setDraft] = useState<Draft>({ document: stored.document })
  const [open, setOpen] = useState<number>()
  const [asText, setAsText] = useState(false)
  const [note, setNote] = useState('')
  const [as, setAs] = useActing()
  const [versions, setVersions] = useState(false)
  const asked = usePaused(draft, 250)
  const changed = draft.document !== stored.document || draft.file !== undefined
  const checked = useQuery({
    queryKey: ['mail rules', 'check', asked],
    queryFn: ({ signal }) => api.checkMailRules(asked.document, asked.file, signal),
    placeholderData: keepPreviousData,
    enabled: changed,
  })
  const state = changed ? checked.data : stored
  const current = !changed || (asked === draft && !checked.isFetching && !checked.error)
  const save = useMutation({
    mutationFn: () => api.putMailRules(state?.document ?? draft.document, note, stored.number, as),
    onSuccess: () => void queries.invalidateQueries(),
  })
  const file = draft.file ?? state?.file ?? stored.file
  const setRules = (rules: MailRule[]) => setDraft({ document: draft.document, file: { ...file, rules } })
  const set = (i: number, rule: MailRule) => setRules(file.rules.map((r, at) => (at === i ? rule : r)))
  const move = (i: number, by: number) => {
    const rules = [...file.rules]
    const [rule] = rules.splice(i, 1)
    if (rule) rules.splice(i + by, 0, rule)
    setOpen(undefined)
    setRules(rules)
  }
  const named: [string, string][] = (audiences.data ?? []).map((a) => [a.name, a.title || a.name])
  return (
    <>
      <Box component="ol" aria-label="Rules" sx={{ listStyle: 'none', p: 0, m: 0 }}>
        {!asText &&
          file.rules.map((rule, i) => (
            <RuleRow
              key={i}
              number={i + 1}
              rule={rule}
              sentence={state?.rules[i]?.name === rule.name ? state.rules[i].sentence : ''}
              warnings={(state?.warnings ?? []).filter((w) => w.rule === rule.name).map((w) => w.says)}
              open={open === i}
              onOpen={() => setOpen(open === i ? undefined : i)}
              onUp={i > 0 ? () => move(i, -1) : undefined}
              onDown={i < file.rules.length - 1 ? () => move(i, 1) : undefined}
              onRemove={() => {
                setOpen(undefined)
                setRules(file.rules.filter((_, at) => at !== i))
              }}
            >
              <RuleEditor
                rule={rule}
                audiences={named}
                templates={templates.data ?? []}
                onChange={(next) => set(i, next)}
              />
            </RuleRow>
          ))}
      </Box>
      {asText && (
        <TextField
          multiline
          fullWidth
          minRows={12}
          label="Mail rules as a file"
          value={draft.file ? (state?.document ?? draft.document) : draft.document}
          onChange={(e) => setDraft({ document: e.target.value })}
          slotProps={{ htmlInput: { spellCheck: false, style: { fontFamily: codeFont, fontSize: 13 } } }}
        />
      )}
      {changed && <Trouble error={checked.error} />}
      <Box sx={{ display: 'flex', gap: 1.5, my: 2, alignItems: 'center', flexWrap: 'wrap' }}>
        {!asText && (
          <Act
            needs="mail-rules"
            variant="outlined"
            onClick={() => {
              setRules([...file.rules, { ...trial, name: unused(file.rules) }])
              setOpen(file.rules.length)
            }}
          >
            Add a rule
          </Act>
        )}
        <Button
          color="inherit"
          onClick={() => {
            if (!asText && draft.file && state) setDraft({ document: state.document })
            setAsText(!asText)
          }}
        >
          {asText ? 'As sentences' : 'As a file'}
        </Button>
        <Button color="inherit" onClick={() => setVersions(true)} disabled={stored.number === 0}>
          Versions
        </Button>
        <Box sx={{ flex: 1 }} />
        {changed && <Typography color="text.secondary">Not saved.</Typography>}
        <ActingField value={as} onChange={setAs} />
        <TextField size="small" label="What was changed" value={note} onChange={(e) => setNote(e.target.value)} />
        <Act
          needs="mail-rules"
          variant="contained"
          disabled={!current || (!changed && stored.number > 0) || save.isPending}
          onClick={() => save.mutate()}
        >
          Save
        </Act>
      </Box>
      <Trouble error={save.error} />
      <Samples document={state?.document ?? stored.document} />
      {versions && <Versions onClose={() => setVersions(false)} onTake={(document) => setDraft({ document })} />}
    </>
  )
}

/** A name that no rule has. */
function unused(rules: MailRule[]): string {
  for (let i = 1; ; i++) {
    const name = i === 1 ? trial.name : `${trial.name}-${i}`
    if (!rules.some((r) => r.name === name)) return name
  }
}

const stateColours = { on: 'success.main', trial: 'warning.main', off: 'text.secondary' }
const stateWords = { on: 'on', trial: 'in trial', off: 'off' }

function RuleRow({
  number,
  rule,
  sentence,
  warnings,
  open,
  onOpen,
  onUp,
  onDown,
  onRemove,
  children,
}: {
  number: number
  rule: MailRule
  sentence: string
  warnings: string[]
  open: boolean
  onOpen: () => void
  onUp?: () => void
  onDown?: () => void
  onRemove: () => void
  children: ReactNode
}) {
  const state = rule.state ?? 'on'
  return (
    <Box
      component="li"
      sx={{
        borderTop: 1,
        borderColor: 'divider',
        py: 1.5,
        display: 'grid',
        gridTemplateColumns: '2rem 1fr auto',
        gap: 1,
      }}
    >
      <Typography sx={{ fontWeight: 600 }}>{number}</Typography>
      <Box sx={{ minWidth: 0 }}>
        <Typography sx={{ fontWeight: 600 }}>
          {rule.title || rule.name}{' '}
          <Box component="span" sx={{ color: stateColours[state], fontWeight: 500 }}>
            {stateWords[state]}
            {rule.onFor && `, on for ${rule.onFor}`}
          </Box>
        </Typography>
        {!open && <Typography color="text.secondary">{sentence}</Typography>}
        {warnings.map((w) => (
          <Typography key={w} sx={{ color: 'warning.main' }}>
            <span aria-hidden="true">△ </span>
            {w}
          </Typography>
        ))}
        {open && children}
      </Box>
      <Box sx={{ whiteSpace: 'nowrap' }}>
        <Small label={`Rule ${number} up`} onClick={onUp}>
          ↑
        </Small>
        <Small label={`Rule ${number} down`} onClick={onDown}>
          ↓
        </Small>
        <Small label={`Remove rule ${number}`} onClick={onRemove}>
          ✕
        </Small>
        <Button
          size="small"
          aria-expanded={open}
          aria-label={`${open ? 'Close' : 'Edit'} rule ${number}`}
          onClick={onOpen}
        >
          {open ? 'Close' : 'Edit'}
        </Button>
      </Box>
    </Box>
  )
}

function Small({ label, onClick, children }: { label: string; onClick?: () => void; children: ReactNode }) {
  return (
    <Button size="small" color="inherit" sx={{ minWidth: 30 }} aria-label={label} disabled={!onClick} onClick={onClick}>
      {children}
    </Button>
  )
}

/** What the rules, as they are being edited, do with made-up messages. */
function Samples({ document }: { document: string }) {
  const [sender, setSender] = useState('')
  const sampled = useQuery({
    queryKey: ['mail rules', 'samples', document, sender],
    queryFn: ({ signal }) => api.sampleMailRules(document, sender, signal),
    placeholderData: keepPreviousData,
  })
  return (
    <Box component="section" aria-label="Sample messages" sx={{ mt: 4 }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 2, mb: 1, flexWrap: 'wrap' }}>
        <Typography variant="h2">What happens to sample messages</Typography>
        <PersonPicker value={sender} onChange={setSender} label="From" none="The first person" />
      </Box>
      <Trouble error={sampled.error} />
      {sampled.data && !sampled.error && (
        <Table size="small" aria-label="Sample messages">
          <TableHead>
            <TableRow>
              <TableCell>Message</TableCell>
              <TableCell>Outcome</TableCell>
              <TableCell>Rule</TableCell>
              <TableCell>Why</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {sampled.data.samples.map((s) => (
              <TableRow key={s.name}>
                <TableCell sx={{ whiteSpace: 'nowrap' }}>{s.title}</TableCell>
                <TableCell sx={{ color: outcomeColour(s.outcome), fontWeight: 600 }}>{s.outcome}</TableCell>
                <TableCell>
                  {s.rule || '–'}
                  {s.trial && ' (in trial)'}
                </TableCell>
                <TableCell>{s.says}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
    </Box>
  )
}

function Versions({ onClose, onTake }: { onClose: () => void; onTake: (document: string) => void }) {
  const versions = useQuery({ queryKey: ['mail rules', 'versions'], queryFn: api.mailRulesVersions })
  const take = useMutation({
    mutationFn: (number: number) => api.mailRules(number),
    onSuccess: (s) => {
      onTake(s.document)
      onClose()
    },
  })
  return (
    <Dialog open onClose={onClose} maxWidth="md" fullWidth>
      <DialogTitle>Versions of the mail rules</DialogTitle>
      <DialogContent>
        <Trouble error={versions.error ?? take.error} />
        <Table size="small">
          <TableBody>
            {(versions.data ?? []).map((v) => (
              <TableRow key={v.number}>
                <TableCell>{v.number}</TableCell>
                <TableCell>{when(v.created)}</TableCell>
                <TableCell>{v.author}</TableCell>
                <TableCell>{v.note}</TableCell>
                <TableCell align="right">
                  <Button size="small" onClick={() => take.mutate(v.number)}>
                    Take as a draft
                  </Button>
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </DialogContent>
      <DialogActions>
        <Button onClick={onClose}>Close</Button>
      </DialogActions>
    </Dialog>
  )
}
