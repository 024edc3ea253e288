import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import FormControlLabel from '@mui/material/FormControlLabel'
import Switch from '@mui/material/Switch'
import Tab from '@mui/material/Tab'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableRow from '@mui/material/TableRow'
import Tabs from '@mui/material/Tabs'
import Typography from '@mui/material/Typography'
import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { api, type Trace, type Tried } from '../api/api'
import { Choice, grouped, Page, Section, Trouble } from '../pages/parts'
import { SideBySide } from '../workbench/SideBySide'
import { DropFile } from './DropFile'
import { MailHead, outcomeColour } from './MailHead'

/** What the rules do with a message that is dropped here, and why. */
export function TryPage() {
  const [which, setWhich] = useState('')
  const [trials, setTrials] = useState(false)
  const [file, setFile] = useState<File>()
  const attempt = useMutation({
    mutationFn: async (of: { file: File; which: string; trials: boolean }) =>
      api.tryMailRules({ message: await base64(of.file), inForce: of.which === 'force', trials: of.trials }),
  })
  const ask = (change: { file?: File; which?: string; trials?: boolean }) => {
    const next = { file, which, trials, ...change }
    setFile(next.file)
    setWhich(next.which)
    setTrials(next.trials)
    if (next.file) attempt.mutate({ file: next.file, which: next.which, trials: next.trials })
  }
  return (
    <Page>
      <MailHead title="Try a message">
        Every rule, every condition with the value that it saw, the place that was found, and what was changed. Nothing
        is sent or kept.
      </MailHead>
      <DropFile label="Choose a message" accept=".eml,message/rfc822" onFile={(f) => ask({ file: f })}>
        Drop a message here, as a file that ends in .eml. At most 14 MB.
      </DropFile>
      <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', mb: 2, flexWrap: 'wrap' }}>
        <Choice
          label="Rules"
          value={which}
          blank="The latest version"
          options={[['force', 'Those that gateways use']]}
          onChange={(v) => ask({ which: v })}
        />
        <FormControlLabel
          control={<Switch checked={trials} onChange={(e) => ask({ trials: e.target.checked })} />}
          label="As if rules in trial were on"
        />
      </Box>
      <Trouble error={attempt.error} />
      {attempt.data && file && <Answer tried={attempt.data} name={file.name} />}
    </Page>
  )
}

/** A file in base64. */
async function base64(file: File): Promise<string> {
  const url = await new Promise<string>((resolve, reject) => {
    const reader = new FileReader()
    reader.onload = () => resolve(reader.result as string)
    reader.onerror = () => reject(new Error('The file cannot be read.'))
    reader.readAsDataURL(file)
  })
  return url.slice(url.indexOf(',') + 1)
}

function Answer({ tried, name }: { tried: Tried; name: string }) {
  const t = tried.trace
  const [view, setView] = useState('page')
  const changed = t.outcome === 'stamped' || t.outcome === 'enclosed'
  return (
    <>
      <Typography variant="h2" component="p" aria-live="polite" sx={{ mb: 1 }}>
        {name}:{' '}
        <Box component="span" sx={{ color: outcomeColour(t.outcome) }}>
          {t.outcome}
        </Box>
        . {t.says}
      </Typography>
      <Facts trace={t} />
      <Section title="Rules">
        {t.rules.map((r) => (
          <Box key={r.rule} sx={{ mb: 2 }}>
            <Typography>
              <strong>{r.rule}</strong> ({r.state === 'trial' ? 'in trial' : r.state}){' '}
              <Box component="span" sx={{ color: r.applies ? 'success.main' : 'text.secondary', fontWeight: 600 }}>
                {r.applies ? 'applies' : 'does not apply'}
              </Box>
              . {r.says}
            </Typography>
            {r.checked.length > 0 && (
              <Table size="small" aria-label={`Conditions of ${r.rule}`} sx={{ maxWidth: 900, tableLayout: 'fixed' }}>
                <TableBody>
                  {r.checked.map((c, i) => (
                    <TableRow key={i}>
                      <TableCell sx={{ width: 70, color: c.holds !== c.exception ? 'success.main' : 'text.secondary' }}>
                        {c.holds ? '✓ yes' : '✕ no'}
                      </TableCell>
                      <TableCell>
                        {c.exception && 'unless '}
                        {c.asks}
                      </TableCell>
                      <TableCell sx={{ overflowWrap: 'anywhere' }}>{c.saw}</TableCell>
                    </TableRow>
                  ))}
                </TableBody>
              </Table>
            )}
          </Box>
        ))}
      </Section>
      {t.changes.length > 0 && (
        <Section title="Changes">
          {t.changes.map((c, i) => (
            <Typography key={i}>
              {c.part ? `Part ${c.part}` : 'The message'}
              {c.line > 0 && `, line ${c.line}`}: {c.says} {c.why}
            </Typography>
          ))}
        </Section>
      )}
      <Section title="Before and after">
        <Tabs value={view} onChange={(_, v: string) => setView(v)} sx={{ mb: 1 }}>
          <Tab value="page" label="As pictures" />
          <Tab value="source" label="As source" />
        </Tabs>
        {view === 'page' ? (
          <Box sx={{ display: 'grid', gridTemplateColumns: { xs: '1fr', md: '1fr 1fr' }, gap: 2 }}>
            <Message title="Before" page={tried.before.page} />
            <Message title="After" page={tried.after.page} />
          </Box>
        ) : (
          <SideBySide label="Source of the message" before={tried.before.source} after={tried.after.source} />
        )}
        {changed && (
          <Button sx={{ mt: 1.5 }} variant="outlined" onClick={() => download(name, tried.raw)}>
            Download the message as it would go out
          </Button>
        )}
      </Section>
    </>
  )
}

function Facts({ trace: t }: { trace: Trace }) {
  const k = t.kind
  const kind = [
    k.conversation === 'forward' ? 'forwarded' : k.conversation,
    { text: 'plain text', html: 'HTML', both: 'text and HTML', none: 'no text' }[k.form] ?? k.form,
    k.automatic && 'automatic',
    k.bounce && 'delivery report',
    k.list && 'mailing list or bulk',
    k.receipt && 'read receipt',
    k.calendar && 'invitation',
    k.closed,
    k.dkim && 'DKIM signature',
    k.arc && 'ARC seals',
    k.stamped && 'stamped already',
    k.attachments > 0 && `${k.attachments} attached`,
  ].filter(Boolean)
  const rows: [string, string][] = [
    ['Sender', `${t.sender || 'none'} (${t.person ? 'in the directory' : 'not in the directory'})`],
    ['Recipients', `${t.recipients.join(', ') || 'none'}${t.scope && ` (${t.scope})`}`],
    ['Kind', kind.join(', ')],
    ['Size', `${grouped(t.before)} bytes before, ${grouped(t.after)} after`],
    ...(t.release > 0 ? [['Rules of', `release ${t.release}`] as [string, string]] : []),
    ...k.faults.map((f): [string, string] => ['Fault', `${f.part && `part ${f.part}: `}${f.says}`]),
  ]
  return (
    <Box
      component="dl"
      sx={{ display: 'grid', gridTemplateColumns: 'max-content 1fr', columnGap: 3, rowGap: 0.5, m: 0 }}
    >
      {rows.map(([what, says]) => (
        <Box key={what + says} sx={{ display: 'contents' }}>
          <Typography component="dt" color="text.secondary">
            {what}
          </Typography>
          <Typography component="dd" sx={{ m: 0, overflowWrap: 'anywhere' }}>
            {says}
          </Typography>
        </Box>
      ))}
    </Box>
  )
}

/** A message as its reader sees it, in a frame that can run nothing and load nothing but pictures of this service. */
function Message({ title, page }: { title: string; page: string }) {
  const policy = `default-src 'none'; img-src data: ${window.location.origin}; style-src 'unsafe-inline'`
  return (
    <Box>
      <Typography sx={{ fontWeight: 600 }}>{title}</Typography>
      <iframe
        title={`The message ${title.toLowerCase()}`}
        sandbox=""
        srcDoc={`<meta http-equiv="Content-Security-Policy" content="${policy}"><base target="_blank"><style>body{margin:12px;background:#fff;color:#000}</style>${page || '<i>It shows no text.</i>'}`}
        style={{ width: '100%', height: 460, border: '1px solid var(--mui-palette-divider)', background: '#fff' }}
      />
    </Box>
  )
}

function download(name: string, raw: string) {
  const bytes = Uint8Array.from(atob(raw), (c) => c.charCodeAt(0))
  const a = document.createElement('a')
  a.href = URL.createObjectURL(new Blob([bytes], { type: 'message/rfc822' }))
  a.download = name.replace(/(\.eml)?$/, '-stamped.eml')
  a.click()
  URL.revokeObjectURL(a.href)
}
