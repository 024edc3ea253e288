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
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Act } from '../access/session'
import { api, type Client } from '../api/api'
import { codeFont } from '../theme'
import { grouped, Page, PageHead, Severity, Trouble } from './parts'

export function ClientsPage() {
  const clients = useQuery({ queryKey: ['clients'], queryFn: api.clients })
  const [shown, setShown] = useState<Client | null>(null)
  const [edited, setEdited] = useState<string | null>(null)
  const shares = clients.data?.reduce((sum, c) => sum + (c.off ? 0 : (c.share ?? 0)), 0) ?? 0
  return (
    <Page>
      <PageHead
        title="Clients"
        actions={
          <Act needs="clients" variant="contained" onClick={() => setEdited('')}>
            New profile
          </Act>
        }
      >
        What each family of mail clients does to a signature. Relabel them, say how many of your readers use each,
        switch off what nobody uses.
        {shares > 0 && ` The shares given so far add up to ${shares} %.`}
      </PageHead>
      <Trouble error={clients.error} />
      {clients.data && (
        <Table aria-label="Clients" size="small">
          <TableHead>
            <TableRow>
              <TableCell>Profile</TableCell>
              <TableCell>Shows</TableCell>
              <TableCell>Installed</TableCell>
              <TableCell>Dark mode</TableCell>
              <TableCell>Limits</TableCell>
              <TableCell align="right">Readers</TableCell>
              <TableCell>
                <Box component="span" sx={{ position: 'absolute', left: -9999 }}>
                  Actions
                </Box>
              </TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {clients.data.map((c) => (
              <TableRow key={c.id} sx={{ verticalAlign: 'top', opacity: c.off ? 0.75 : 1 }}>
                <TableCell sx={{ maxWidth: 360 }}>
                  <Link component="button" onClick={() => setShown(c)} sx={{ fontWeight: 600, textAlign: 'left' }}>
                    {c.title}
                  </Link>
                  <Typography variant="body2" color="text.secondary">
                    {c.id}
                    {c.off && ', switched off'}
                  </Typography>
                </TableCell>
                <TableCell>{{ html: 'markup', text: 'text', rtf: 'rich text' }[c.form]}</TableCell>
                <TableCell>{c.install.way.replace('-', ' ')}</TableCell>
                <TableCell>{c.dark ? `${c.dark.as} inversion` : 'colours stay'}</TableCell>
                <TableCell>
                  {c.limits?.map((l) => (
                    <div key={l.measure}>
                      {grouped(l.max)} {l.measure.replace('-', ' ')}
                    </div>
                  ))}
                </TableCell>
                <TableCell align="right">{c.share ? `${c.share} %` : ''}</TableCell>
                <TableCell>
                  <Button size="small" onClick={() => setEdited(c.id)} aria-label={`Edit ${c.id}`}>
                    Edit
                  </Button>
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
      {shown && <ProfileDialog profile={shown} onClose={() => setShown(null)} />}
      {edited !== null && <EditDialog id={edited} onClose={() => setEdited(null)} />}
    </Page>
  )
}

/** All that a profile says, with how it is known. */
function ProfileDialog({ profile: p, onClose }: { profile: Client; onClose: () => void }) {
  return (
    <Dialog open onClose={onClose} maxWidth="lg" fullWidth aria-labelledby="profile-title">
      <DialogTitle id="profile-title">{p.title}</DialogTitle>
      <DialogContent>
        <Typography sx={{ mb: 2 }}>{p.about}</Typography>
        {(p.behaviours?.length ?? 0) === 0 && <Typography>It keeps what it gets.</Typography>}
        <Box tabIndex={0} role="group" aria-label="Behaviours" sx={{ maxHeight: 420, overflow: 'auto' }}>
          <Table size="small">
            <TableHead>
              <TableRow>
                <TableCell>Stage</TableCell>
                <TableCell>Behaviour</TableCell>
                <TableCell>Happens</TableCell>
                <TableCell>Readers see</TableCell>
                <TableCell>How bad</TableCell>
                <TableCell>Basis</TableCell>
              </TableRow>
            </TableHead>
            <TableBody>
              {p.behaviours?.map((b) => (
                <TableRow key={b.id}>
                  <TableCell>{b.stage}</TableCell>
                  <TableCell>{b.id.replaceAll('-', ' ')}</TableCell>
                  <TableCell>{b.does}</TableCell>
                  <TableCell>{b.says}</TableCell>
                  <TableCell>{b.severity && <Severity of={b.severity} />}</TableCell>
                  <TableCell>{b.basis}</TableCell>
                </TableRow>
              ))}
            </TableBody>
          </Table>
        </Box>
      </DialogContent>
      <DialogActions>
        <Button onClick={onClose}>Close</Button>
      </DialogActions>
    </Dialog>
  )
}

const beginning = 'id: our-client\nbased-on: webview-desktop\ntitle: Our client\nshare: 0 # percent of your readers\n'

/** The organisation's own profile as YAML: what it says stands over the shipped one. */
function EditDialog({ id, onClose }: { id: string; onClose: () => void }) {
  const stored = useQuery({
    queryKey: ['client-document', id],
    queryFn: () => api.clientDocument(id),
    enabled: id !== '',
    gcTime: 0,
  })
  const [written, setWritten] = useState<string | null>(id === '' ? beginning : null)
  const text = written ?? stored.data?.document ?? ''
  const queries = useQueryClient()
  const done = () => {
    void queries.invalidateQueries()
    onClose()
  }
  const save = useMutation({
    mutationFn: () => api.putClientDocument(/^id:\s*(\S+)/m.exec(text)?.[1] ?? id, text),
    onSuccess: done,
  })
  const remove = useMutation({ mutationFn: () => api.removeClientDocument(id), onSuccess: done })
  return (
    <Dialog open onClose={onClose} maxWidth="md" fullWidth aria-labelledby="edit-client-title">
      <DialogTitle id="edit-client-title">{id === '' ? 'New profile' : `Profile ${id}`}</DialogTitle>
      <DialogContent>
        <Typography color="text.secondary" sx={{ mb: 1.5 }}>
          With based-on, what stands here overrides single entries of that profile: title, share, off, limits by what
          they measure, behaviours by id; without: [id] takes behaviours away.
        </Typography>
        <TextField
          label="Profile as YAML"
          multiline
          minRows={9}
          maxRows={18}
          fullWidth
          value={text}
          onChange={(e) => setWritten(e.target.value)}
          slotProps={{ htmlInput: { spellCheck: false, style: { fontFamily: codeFont, fontSize: 13.5 } } }}
        />
        <Trouble error={stored.error ?? save.error ?? remove.error} />
      </DialogContent>
      <DialogActions>
        {stored.data?.own && (
          <Act needs="clients" color="error" onClick={() => remove.mutate()}>
            Remove what is our own
          </Act>
        )}
        <Box sx={{ flex: 1 }} />
        <Button onClick={onClose}>Cancel</Button>
        <Act needs="clients" variant="contained" disabled={save.isPending || text === ''} onClick={() => save.mutate()}>
          Save the profile
        </Act>
      </DialogActions>
    </Dialog>
  )
}
