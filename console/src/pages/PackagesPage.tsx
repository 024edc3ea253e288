import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import LinearProgress from '@mui/material/LinearProgress'
import MenuItem from '@mui/material/MenuItem'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Act, Lacking } from '../access/session'
import { api, packageFile, type Exported, type PackageInfo, type PackageRequest } from '../api/api'
import { Choice, count, grouped, Page, PageHead, Severity, SourceBox, TemplateField, Trouble, when } from './parts'
import { codeFont } from '../theme'
import { download } from '../workbench/download'

export function PackagesPage() {
  const templates = useQuery({ queryKey: ['templates'], queryFn: api.templates })
  const [chosen, setChosen] = useState('')
  const template = chosen || (templates.data?.[0]?.name ?? '')
  return (
    <Page>
      <PageHead
        title="Packages"
        actions={<TemplateField templates={templates.data} value={template} onChange={setChosen} />}
      >
        What goes out of a template or a release: a zip with everybody’s files for the desks, or the block for a mail
        host that appends the signature.
      </PageHead>
      <Lacking permission="packages">Making packages</Lacking>
      <Trouble error={templates.error} />
      <FilesForDesks template={template} />
      {template && <HostBlock key={template} template={template} />}
    </Page>
  )
}

function FilesForDesks({ template }: { template: string }) {
  const queries = useQueryClient()
  const packages = useQuery({
    queryKey: ['packages'],
    queryFn: api.packages,
    refetchInterval: (q) => (q.state.data?.some((p) => p.state === 'running' || p.state === 'waiting') ? 400 : false),
  })
  const refresh = () => queries.invalidateQueries({ queryKey: ['packages'] })
  const releases = useQuery({ queryKey: ['releases'], queryFn: api.releases })
  const ways = useQuery({ queryKey: ['ways'], queryFn: api.ways })
  const clients = useQuery({ queryKey: ['clients'], queryFn: api.clients })
  const audiences = useQuery({ queryKey: ['audiences'], queryFn: api.audiences })
  const [of, setOf] = useState('') // blank for the template, or the number of a release
  const [wanted, setWanted] = useState('') // blank for all forms, way:ID or client:ID
  const [audience, setAudience] = useState('')
  const [person, setPerson] = useState('')
  const [kind, id] = wanted.split(':')
  const request: PackageRequest = {
    ...(of ? { release: Number(of), audience } : { template }),
    ...(kind === 'way' ? { way: id } : kind === 'client' ? { client: id } : {}),
    ...(wanted && person ? { person } : {}),
  }
  const create = useMutation({ mutationFn: () => api.createPackage(request), onSuccess: refresh })
  const way =
    ways.data?.find(
      (w) => w.id === (kind === 'way' ? id : clients.data?.find((c) => kind === 'client' && c.id === id)?.install.way),
    ) ?? undefined
  const remove = useMutation({ mutationFn: api.removePackage, onSettled: refresh })
  return (
    <Box component="section" aria-labelledby="desks" sx={{ mb: 5 }}>
      <Box sx={{ display: 'flex', alignItems: 'center', mb: 1 }}>
        <Typography variant="h2" id="desks" sx={{ flex: 1 }}>
          Files for every desk
        </Typography>
      </Box>
      <Box sx={{ display: 'flex', gap: 1.5, alignItems: 'center', flexWrap: 'wrap', mb: 1.5 }}>
        <Choice
          label="Of"
          value={of}
          blank="the template"
          options={(releases.data ?? [])
            .filter((r) => r.state !== 'draft')
            .map((r) => [String(r.id), `release ${r.id}: ${r.title} (${r.state})`])}
          onChange={(next) => {
            setOf(next)
            if (next && !wanted) setWanted('way:file-set')
          }}
        />
        <Choice
          label="For"
          value={wanted}
          blank={of ? undefined : 'every form, without kits'}
          options={[
            ...(ways.data ?? [])
              .filter((w) => w.packed)
              .map((w): [string, string] => [`way:${w.id}`, `any client by the way ${w.title.toLowerCase()}`]),
            ...(clients.data ?? [])
              .filter((c) => ways.data?.find((w) => w.id === c.install.way)?.packed)
              .map((c): [string, string] => [`client:${c.id}`, c.title]),
          ]}
          onChange={setWanted}
        />
        {of && (
          <Choice
            label="Audience"
            value={audience}
            blank="everybody"
            options={(audiences.data ?? []).map((a) => [a.name, a.title || a.name])}
            onChange={setAudience}
          />
        )}
        {wanted && (
          <TextField
            size="small"
            label="Only the person (mail address)"
            value={person}
            sx={{ minWidth: 240 }}
            onChange={(e) => setPerson(e.target.value)}
          />
        )}
        <Act
          needs="packages"
          variant="contained"
          disabled={(!template && !of) || create.isPending}
          onClick={() => create.mutate()}
        >
          Make a package
        </Act>
      </Box>
      {way && (
        <Typography color="text.secondary" sx={{ mb: 1.5, maxWidth: 860 }}>
          {way.about} {way.drawbacks.join(' ')}
        </Typography>
      )}
      <Trouble error={packages.error ?? create.error ?? remove.error} />
      {create.data?.notes.map((note) => (
        <Typography key={note} color="warning.main">
          △ {note}
        </Typography>
      ))}
      {packages.data?.length === 0 && <Typography color="text.secondary">No package has been made yet.</Typography>}
      {packages.data && packages.data.length > 0 && (
        <Table size="small" aria-label="Packages">
          <TableHead>
            <TableRow>
              <TableCell>Of</TableCell>
              <TableCell>Made</TableCell>
              <TableCell sx={{ width: 280 }}>State</TableCell>
              <TableCell align="right">Files</TableCell>
              <TableCell align="right">Size</TableCell>
              <TableCell />
            </TableRow>
          </TableHead>
          <TableBody>
            {packages.data.map((p) => (
              <PackageRow key={p.id} package={p} onRemove={() => remove.mutate(p.id)} />
            ))}
          </TableBody>
        </Table>
      )}
    </Box>
  )
}

function PackageRow({ package: p, onRemove }: { package: PackageInfo; onRemove: () => void }) {
  const busy = p.state === 'running' || p.state === 'waiting'
  return (
    <TableRow>
      <TableCell>
        {p.release ? `release ${p.release}` : `${p.template}, version ${p.number}`}
        {p.way && (
          <Typography variant="body2" color="text.secondary">
            {[p.client || p.way, p.audience, p.person].filter(Boolean).join(', ')}
          </Typography>
        )}
      </TableCell>
      <TableCell>{when(p.created)}</TableCell>
      <TableCell>
        {busy ? (
          <Box>
            <LinearProgress
              variant="determinate"
              value={p.total ? (100 * p.done) / p.total : 0}
              aria-label={`Package of ${p.template}`}
            />
            <Typography variant="body2">
              {p.state === 'waiting' ? 'Waiting' : `${grouped(p.done)} of ${count(p.total, 'person', 'people')}`}
            </Typography>
          </Box>
        ) : p.state === 'ready' ? (
          <Severity of="fine">Ready for {count(p.total, 'person', 'people')}</Severity>
        ) : (
          <Severity of={p.state === 'failed' ? 'breaks' : 'note'}>{p.message}</Severity>
        )}
      </TableCell>
      <TableCell align="right">{p.files ? grouped(p.files) : ''}</TableCell>
      <TableCell align="right">{p.bytes ? `${grouped(Math.ceil(p.bytes / 1024))} kB` : ''}</TableCell>
      <TableCell align="right" sx={{ whiteSpace: 'nowrap' }}>
        {p.state === 'ready' && (
          <Button size="small" href={packageFile(p.id)}>
            Download
          </Button>
        )}
        <Act needs="packages" size="small" color="inherit" onClick={onRemove}>
          {busy ? 'Stop' : 'Delete'}
        </Act>
      </TableCell>
    </TableRow>
  )
}

function HostBlock({ template }: { template: string }) {
  const dialects = useQuery({ queryKey: ['dialects'], queryFn: api.dialects })
  const [chosen, setChosen] = useState('')
  const [edited, setEdited] = useState<string | null>(null)
  const [forWhom, setForWhom] = useState('')
  const [except, setExcept] = useState('')
  const dialect = chosen || (dialects.data?.[0]?.id ?? '')
  const sheet = useMutation({
    mutationFn: () => api.ruleSheet(template, { dialect, for: forWhom, except }),
    onSuccess: download,
  })
  const rule = useQuery({
    queryKey: ['rule', template, dialect],
    queryFn: () => api.block(template, { dialect }),
    enabled: dialect !== '',
  })
  const of = dialects.data?.find((d) => d.id === dialect)
  const about = of?.about
  return (
    <Box component="section" aria-labelledby="block">
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 2, mb: 1, flexWrap: 'wrap' }}>
        <Box sx={{ flex: 1, minWidth: 280 }}>
          <Typography variant="h2" id="block">
            Block for a mail host
          </Typography>
          <Typography variant="body2" color="text.secondary">
            {about}
          </Typography>
        </Box>
        <TextField
          select
          size="small"
          label="Dialect"
          value={dialect}
          onChange={(e) => setChosen(e.target.value)}
          sx={{ minWidth: 230 }}
        >
          {(dialects.data ?? []).map((d) => (
            <MenuItem key={d.id} value={d.id}>
              {d.title}
            </MenuItem>
          ))}
        </TextField>
        <Act needs="clients" variant="outlined" onClick={() => setEdited(of?.own ? dialect : '')}>
          {of?.own ? 'Edit the dialect' : 'A dialect of your own'}
        </Act>
      </Box>
      <Box sx={{ display: 'flex', gap: 1.5, alignItems: 'center', flexWrap: 'wrap', mb: 1.5 }}>
        <TextField
          size="small"
          label="For whom, at the host"
          value={forWhom}
          placeholder="everybody"
          onChange={(e) => setForWhom(e.target.value)}
        />
        <TextField
          size="small"
          label="Except when"
          value={except}
          sx={{ minWidth: 320 }}
          onChange={(e) => setExcept(e.target.value)}
        />
        <Button variant="outlined" disabled={sheet.isPending || !dialect} onClick={() => sheet.mutate()}>
          Save the rule sheet
        </Button>
      </Box>
      <Trouble error={dialects.error ?? rule.error ?? sheet.error} />
      {edited !== null && (
        <DialectDialog
          id={edited}
          onClose={(saved) => {
            setEdited(null)
            if (saved !== undefined) setChosen(saved)
          }}
        />
      )}
      {rule.data && <BlockView block={rule.data} />}
    </Box>
  )
}

/** How the organisation's own mail host writes placeholders, to be edited. */
function DialectDialog({ id, onClose }: { id: string; onClose: (saved?: string) => void }) {
  const queries = useQueryClient()
  const stored = useQuery({
    queryKey: ['dialect', id],
    queryFn: () => api.dialectDocument(id || 'our-host'),
    staleTime: Infinity,
  })
  const [written, setWritten] = useState<string>()
  const text = written ?? stored.data?.document ?? ''
  const named = /^id: *(.*?) *$/m.exec(text)?.[1] ?? ''
  const done = (saved: string) => {
    void queries.invalidateQueries()
    onClose(saved)
  }
  const save = useMutation({ mutationFn: () => api.putDialectDocument(named, text), onSuccess: () => done(named) })
  const remove = useMutation({ mutationFn: () => api.removeDialectDocument(id), onSuccess: () => done('') })
  return (
    <Dialog open onClose={() => onClose()} maxWidth="md" fullWidth aria-labelledby="edit-dialect-title">
      <DialogTitle id="edit-dialect-title">{id ? `Dialect ${id}` : 'A dialect of your own'}</DialogTitle>
      <DialogContent>
        <TextField
          label="Dialect as YAML"
          multiline
          minRows={12}
          maxRows={20}
          fullWidth
          value={text}
          sx={{ mt: 1 }}
          onChange={(e) => setWritten(e.target.value)}
          slotProps={{ htmlInput: { spellCheck: false, style: { fontFamily: codeFont, fontSize: 13.5 } } }}
        />
        <Trouble error={stored.error ?? save.error ?? remove.error} />
      </DialogContent>
      <DialogActions>
        {id && (
          <Button color="error" onClick={() => remove.mutate()}>
            Remove the dialect
          </Button>
        )}
        <Box sx={{ flex: 1 }} />
        <Button onClick={() => onClose()}>Cancel</Button>
        <Button variant="contained" disabled={save.isPending || !named} onClick={() => save.mutate()}>
          Save the dialect
        </Button>
      </DialogActions>
    </Dialog>
  )
}

function BlockView({ block }: { block: Exported }) {
  const [copied, setCopied] = useState('')
  const over = block.limit > 0 && block.characters > block.limit
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(block.block)
      setCopied('Copied')
    } catch {
      setCopied('The browser does not allow copying; select the text instead')
    }
  }
  return (
    <Box sx={{ display: 'grid', gridTemplateColumns: { xs: '1fr', md: 'minmax(0, 1fr) minmax(0, 1fr)' }, gap: 3 }}>
      <Box>
        <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 0.5 }}>
          <Severity of={over ? 'breaks' : 'fine'}>
            {grouped(block.characters)}
            {block.limit > 0 && ` of ${grouped(block.limit)}`} characters
          </Severity>
          <Box sx={{ flex: 1 }} aria-live="polite">
            {copied}
          </Box>
          <Button size="small" variant="outlined" onClick={() => void copy()}>
            Copy the block
          </Button>
        </Box>
        <SourceBox label="Block" height={340}>
          {block.block}
        </SourceBox>
      </Box>
      <Box>
        <Typography sx={{ fontWeight: 600, mb: 0.5 }}>
          {block.losses.length === 0
            ? 'Nothing is lost'
            : `${count(block.losses.length, 'loss', 'losses')}: what this host cannot do`}
        </Typography>
        <Box component="ol" aria-label="Losses" tabIndex={0} sx={{ m: 0, pl: 2.5, maxHeight: 360, overflow: 'auto' }}>
          {block.losses.map((l, i) => (
            <Box component="li" key={i} sx={{ mb: 1 }}>
              {l.message}
              <Typography variant="body2" color="text.secondary">
                Line {l.line}.{' '}
                {l.counted && (
                  <>
                    Shows for <b>{count(l.people, 'person', 'people')}</b>: {l.who.slice(0, 8).join(', ')}
                    {l.people > 8 && ` and ${grouped(l.people - 8)} more`}
                  </>
                )}
              </Typography>
            </Box>
          ))}
        </Box>
      </Box>
    </Box>
  )
}
