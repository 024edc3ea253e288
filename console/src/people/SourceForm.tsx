import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import Switch from '@mui/material/Switch'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Act } from '../access/session'
import { api, type Source, type SourcePreview, type SourceRequest, type SourceSettings } from '../api/api'
import { count, Trouble, Warnings } from '../pages/parts'
import { codeFont } from '../theme'

type Kind = SourceRequest['kind']

const kinds: { id: Kind; label: string }[] = [
  { id: 'ldap', label: 'LDAP directory' },
  { id: 'folder', label: 'Folder to which files are exported' },
  { id: 'web', label: 'https address of a file' },
  { id: 'file', label: 'Files imported by hand' },
  { id: 'scim', label: 'Pushed in (SCIM)' },
]

const blankLDAP: NonNullable<SourceSettings['ldap']> = {
  address: '',
  authority: '',
  bind: '',
  secret: '',
  base: '',
  scope: '',
  filter: '',
  groups: '',
  page: 0,
  compare: false,
}

function blank(kind: Kind): SourceSettings {
  const settings: SourceSettings = { every: '', partly: false, look: false }
  if (kind === 'ldap') settings.ldap = blankLDAP
  if (kind === 'folder') settings.folder = { path: '', pattern: '' }
  if (kind === 'web') settings.web = { address: '', authority: '', user: '', secret: '' }
  return settings
}

/** A source: how it is asked, which attribute is which field, and what that makes of five people. */
export function SourceForm({ source, onClose }: { source?: Source; onClose: () => void }) {
  const queries = useQueryClient()
  const [name, setName] = useState(source?.name ?? '')
  const [kind, setKind] = useState<Kind>((source?.kind as Kind | undefined) ?? 'ldap')
  const [position, setPosition] = useState(source?.position ?? 10)
  const [settings, setSettings] = useState<SourceSettings>(() => ({ ...blank(kind), ...source?.settings }))
  const [mapping, setMapping] = useState(source?.mapping ?? '')
  const [stored, setStored] = useState(Boolean(source))
  const request: SourceRequest = { kind, position, settings, mapping }
  const save = useMutation({
    mutationFn: () => api.putSource(name, request),
    onSuccess: () => {
      setStored(true)
      void queries.invalidateQueries()
    },
  })
  const remove = useMutation({
    mutationFn: () => api.removeSource(name),
    onSuccess: () => {
      void queries.invalidateQueries()
      onClose()
    },
  })
  const preview = useMutation({ mutationFn: () => api.previewSource(name, mapping) })
  const asked = kind === 'ldap' || kind === 'folder' || kind === 'web'
  const { ldap, folder, web } = settings
  return (
    <Dialog open onClose={onClose} maxWidth="lg" fullWidth aria-labelledby="source-title">
      <DialogTitle id="source-title">{source ? `Source ${source.name}` : 'New source'}</DialogTitle>
      <DialogContent>
        <Box sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap', pt: 1, mb: 2 }}>
          <Text label="Name" value={name} disabled={stored} onChange={setName} />
          <TextField
            select
            size="small"
            label="Kind"
            value={kind}
            disabled={stored}
            sx={{ minWidth: 260 }}
            onChange={(e) => {
              const to = e.target.value as Kind
              setKind(to)
              setSettings(blank(to))
            }}
          >
            {kinds.map((k) => (
              <MenuItem key={k.id} value={k.id}>
                {k.label}
              </MenuItem>
            ))}
          </TextField>
          <TextField
            size="small"
            type="number"
            label="Position"
            value={position}
            sx={{ width: 110 }}
            onChange={(e) => setPosition(Number(e.target.value))}
          />
          {asked && (
            <Text
              label="Asked every"
              value={settings.every}
              help="such as 15m or 24h; blank for on demand"
              onChange={(every) => setSettings({ ...settings, every })}
            />
          )}
        </Box>
        {ldap && <LDAPFields of={ldap} onChange={(l) => setSettings({ ...settings, ldap: l })} />}
        {folder && (
          <Fields>
            <Text
              wide
              label="Folder"
              value={folder.path}
              onChange={(path) => setSettings({ ...settings, folder: { ...folder, path } })}
            />
            <Text
              label="Files"
              value={folder.pattern}
              help="such as export-*.csv; the newest is read"
              onChange={(pattern) => setSettings({ ...settings, folder: { ...folder, pattern } })}
            />
          </Fields>
        )}
        {web && (
          <Fields>
            <Text
              wide
              label="Address"
              value={web.address}
              onChange={(address) => setSettings({ ...settings, web: { ...web, address } })}
            />
            <Text
              label="User"
              value={web.user}
              help="blank for a bearer token"
              onChange={(user) => setSettings({ ...settings, web: { ...web, user } })}
            />
            <Secret value={web.secret} onChange={(secret) => setSettings({ ...settings, web: { ...web, secret } })} />
            <Authority
              value={web.authority}
              onChange={(authority) => setSettings({ ...settings, web: { ...web, authority } })}
            />
          </Fields>
        )}
        {asked && (
          <Box>
            <FormControlLabel
              control={
                <Switch
                  checked={settings.look}
                  onChange={(e) => setSettings({ ...settings, look: e.target.checked })}
                />
              }
              label="Every plan waits until somebody applies it"
            />
            {!ldap && (
              <FormControlLabel
                control={
                  <Switch
                    checked={settings.partly}
                    onChange={(e) => setSettings({ ...settings, partly: e.target.checked })}
                  />
                }
                label="It names only some of the people"
              />
            )}
          </Box>
        )}
        {kind === 'scim' && (
          <Typography color="text.secondary" sx={{ mb: 2 }}>
            An identity system pushes people to /scim/v2 with a key: missivum key add NAME --source {name || 'NAME'}.
          </Typography>
        )}
        {kind !== 'scim' && (
          <>
            <TextField
              label="Mapping"
              multiline
              minRows={6}
              maxRows={14}
              fullWidth
              value={mapping}
              onChange={(e) => setMapping(e.target.value)}
              helperText="Which column or attribute is which field (columns:), what is made of them (fields:), tables by code (lookups:). Blank takes the usual names."
              slotProps={{ htmlInput: { style: { fontFamily: codeFont, fontSize: 13 }, spellCheck: false } }}
              sx={{ mt: 1.5 }}
            />
            <Trouble error={preview.error} />
            {preview.data && <PreviewTable of={preview.data} />}
          </>
        )}
        <Trouble error={save.error ?? remove.error} />
      </DialogContent>
      <DialogActions>
        {stored && source && source.name !== 'import' && (
          <Act needs="people" onClick={() => remove.mutate()} sx={{ mr: 'auto' }}>
            Remove
          </Act>
        )}
        <Button onClick={onClose}>Close</Button>
        {asked && (
          <Act needs="people" disabled={!stored || preview.isPending} onClick={() => preview.mutate()}>
            {preview.isPending ? 'Asking ...' : 'Show five people'}
          </Act>
        )}
        <Act needs="people" variant="contained" disabled={!name || save.isPending} onClick={() => save.mutate()}>
          Save
        </Act>
      </DialogActions>
    </Dialog>
  )
}

function LDAPFields({
  of,
  onChange,
}: {
  of: NonNullable<SourceSettings['ldap']>
  onChange: (l: NonNullable<SourceSettings['ldap']>) => void
}) {
  return (
    <Fields>
      <Text
        wide
        label="Address"
        value={of.address}
        help="ldaps://host, or ldap://host with StartTLS"
        onChange={(address) => onChange({ ...of, address })}
      />
      <Text wide label="Base" value={of.base} onChange={(base) => onChange({ ...of, base })} />
      <Text
        wide
        label="Bind as"
        value={of.bind}
        help="a DN; blank for nobody"
        onChange={(bind) => onChange({ ...of, bind })}
      />
      <Secret value={of.secret} onChange={(secret) => onChange({ ...of, secret })} />
      <Text
        wide
        label="Filter"
        value={of.filter}
        help="(objectClass=person) when blank"
        onChange={(filter) => onChange({ ...of, filter })}
      />
      <Text
        wide
        label="Groups below"
        value={of.groups}
        help="a DN; blank where entries name their groups"
        onChange={(groups) => onChange({ ...of, groups })}
      />
      <Authority value={of.authority} onChange={(authority) => onChange({ ...of, authority })} />
    </Fields>
  )
}

function Fields({ children }: { children: React.ReactNode }) {
  return <Box sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap', mb: 1.5 }}>{children}</Box>
}

function Secret({ value, onChange }: { value: string; onChange: (value: string) => void }) {
  return <Text label="Secret" value={value} help="a file in the folder secrets" onChange={onChange} />
}

function Authority({ value, onChange }: { value: string; onChange: (value: string) => void }) {
  return (
    <TextField
      size="small"
      multiline
      maxRows={3}
      label="Certificates of your own authority"
      value={value}
      helperText="PEM; blank for those of the system"
      onChange={(e) => onChange(e.target.value)}
      sx={{ width: 340 }}
    />
  )
}

function Text({
  label,
  value,
  onChange,
  help,
  wide,
  disabled,
}: {
  label: string
  value: string
  onChange: (value: string) => void
  help?: string
  wide?: boolean
  disabled?: boolean
}) {
  return (
    <TextField
      size="small"
      label={label}
      value={value}
      disabled={disabled}
      helperText={help}
      onChange={(e) => onChange(e.target.value)}
      sx={{ width: wide ? 340 : 230 }}
    />
  )
}

function PreviewTable({ of }: { of: SourcePreview }) {
  const left = of.columns.filter((c) => c.field === '' && c.heading !== '').map((c) => c.heading)
  return (
    <Box sx={{ mt: 2 }}>
      <Warnings of={of.note ? [of.note] : undefined} />
      <Typography variant="h2" sx={{ mb: 1 }}>
        {Math.min(5, of.people.length)} of {count(of.read, 'person', 'people')}, hard cases first
      </Typography>
      <Box sx={{ overflowX: 'auto' }}>
        <Table size="small" aria-label="Preview">
          <TableBody>
            {of.fields.map((field, c) => (
              <TableRow key={field}>
                <TableCell component="th" scope="row">
                  {field}
                </TableCell>
                {of.people.map((p, i) => (
                  <TableCell key={i} sx={{ maxWidth: 220, overflowWrap: 'anywhere' }}>
                    <bdi>{p.values[c] || '–'}</bdi>
                  </TableCell>
                ))}
              </TableRow>
            ))}
            <TableRow>
              <TableCell component="th" scope="row">
                shown because
              </TableCell>
              {of.people.map((p, i) => (
                <TableCell key={i} sx={{ color: 'text.secondary' }}>
                  {p.reasons.join('; ') || '–'}
                </TableCell>
              ))}
            </TableRow>
          </TableBody>
        </Table>
      </Box>
      {left.length > 0 && (
        <Typography color="text.secondary" sx={{ mt: 1 }}>
          Left out: {left.join(', ')}.
        </Typography>
      )}
    </Box>
  )
}
