import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import FormControlLabel from '@mui/material/FormControlLabel'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, type Account, type AccountLink, type Role } from '../api/api'
import { Page, Trouble, when } from '../pages/parts'
import { AccessHead } from './AccessHead'
import { ToKeep } from './ToKeep'
import { useSession } from './session'

const roles: { role: Role; says: string }[] = [
  { role: 'viewer', says: 'looks at everything but accounts, keys and the record' },
  { role: 'author', says: 'saves templates and pictures, makes packages and releases' },
  { role: 'approver', says: 'approves releases with the mail rules in them, and sends them' },
  { role: 'administrator', says: 'looks after people, mail rules, accounts and settings' },
]

/** Who may sign in and do what. */
export function AccountsPage() {
  const accounts = useQuery({ queryKey: ['accounts'], queryFn: api.accounts })
  const session = useSession()
  const [open, setOpen] = useState<Account | 'new'>()
  const [link, setLink] = useState<AccountLink>()
  const none = accounts.data?.length === 0
  return (
    <Page>
      <AccessHead
        title="Accounts"
        actions={
          <Button variant="contained" onClick={() => setOpen('new')}>
            New account
          </Button>
        }
      >
        Who may sign in, and do what. A change takes effect at once, also for those who are signed in.
      </AccessHead>
      <Trouble error={accounts.error} />
      {link && <LinkShown link={link} first={accounts.data?.length === 1} onClose={() => setLink(undefined)} />}
      {none && (
        <Alert severity="info" variant="outlined">
          There are no accounts: whoever uses this machine may do everything. The first account must be an
          administrator. From then on everybody signs in, on this machine too.
        </Alert>
      )}
      {accounts.data && !none && (
        <Table size="small" aria-label="Accounts">
          <TableHead>
            <TableRow>
              {['Account', 'Roles', 'Signs in by', 'Signed in', ''].map((h) => (
                <TableCell key={h}>{h}</TableCell>
              ))}
            </TableRow>
          </TableHead>
          <TableBody>
            {accounts.data.map((a) => (
              <TableRow key={a.name}>
                <TableCell>
                  {a.title || a.name}
                  {a.title && (
                    <Typography variant="body2" color="text.secondary">
                      {a.name}
                    </Typography>
                  )}
                </TableCell>
                <TableCell>{a.roles.join(', ')}</TableCell>
                <TableCell>{wayOf(a)}</TableCell>
                <TableCell>{a.signedIn ? when(a.signedIn) : 'never'}</TableCell>
                <TableCell align="right">
                  <Button size="small" aria-label={`Change ${a.name}`} onClick={() => setOpen(a)}>
                    Change
                  </Button>
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
      {open && (
        <AccountDialog
          account={open === 'new' ? undefined : open}
          own={open !== 'new' && open.name === session?.name}
          first={none === true}
          onLink={setLink}
          onClose={() => setOpen(undefined)}
        />
      )}
    </Page>
  )
}

function wayOf(a: Account): string {
  if (a.provider) return 'identity provider'
  if (!a.password) return 'link not used yet'
  return a.factor ? 'password and second factor' : 'password'
}

function LinkShown({ link, first, onClose }: { link: AccountLink; first: boolean; onClose: () => void }) {
  return (
    <ToKeep label="Link" text={link.link} onClose={onClose}>
      Give this link to {link.name}. It is shown once and holds until {when(link.ends)}; a password is chosen with it.
      {first && ' Open it yourself now if it is yours: this machine asks for a password from now on.'}
    </ToKeep>
  )
}

function AccountDialog({
  account,
  own,
  first,
  onLink,
  onClose,
}: {
  account?: Account
  own: boolean
  first: boolean
  onLink: (link: AccountLink) => void
  onClose: () => void
}) {
  const queries = useQueryClient()
  const [name, setName] = useState(account?.name ?? '')
  const [title, setTitle] = useState(account?.title ?? '')
  const [held, setHeld] = useState<Role[]>(account?.roles ?? (first ? roles.map((r) => r.role) : ['viewer']))
  const [sure, setSure] = useState(false)
  const changed = () => {
    void queries.invalidateQueries({ queryKey: ['accounts'] })
    onClose()
  }
  const save = useMutation({
    mutationFn: async () => {
      if (account) await api.changeAccount(account.name, { title, roles: held })
      else onLink(await api.addAccount({ name, title, roles: held }))
    },
    onSuccess: changed,
  })
  const link = useMutation({
    mutationFn: () => api.linkAccount(account?.name ?? ''),
    onSuccess: (made) => {
      onLink(made)
      changed()
    },
  })
  const signOut = useMutation({ mutationFn: () => api.signOutAccount(account?.name ?? ''), onSuccess: changed })
  const withoutFactor = useMutation({
    mutationFn: () => api.changeAccount(account?.name ?? '', { factor: false }),
    onSuccess: changed,
  })
  const remove = useMutation({ mutationFn: () => api.removeAccount(account?.name ?? ''), onSuccess: changed })
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="sm" aria-labelledby="account-title">
      <DialogTitle id="account-title">{account ? account.name : 'New account'}</DialogTitle>
      <DialogContent>
        <Box
          component="form"
          id="account"
          sx={{ display: 'flex', flexDirection: 'column', gap: 2, pt: 1 }}
          onSubmit={(e) => {
            e.preventDefault()
            save.mutate()
          }}
        >
          {!account && (
            <TextField
              size="small"
              label="Name to sign in with"
              value={name}
              required
              autoFocus
              helperText="Such as a mail address; without spaces."
              onChange={(e) => setName(e.target.value)}
            />
          )}
          <TextField size="small" label="Shown as" value={title} onChange={(e) => setTitle(e.target.value)} />
          <Box role="group" aria-label="Roles">
            {roles.map(({ role, says }) => (
              <FormControlLabel
                key={role}
                sx={{ display: 'flex' }}
                control={
                  <Checkbox
                    size="small"
                    checked={held.includes(role)}
                    onChange={(e) => setHeld(e.target.checked ? [...held, role] : held.filter((r) => r !== role))}
                  />
                }
                label={
                  <>
                    <b>{role}</b> {says}
                  </>
                }
              />
            ))}
          </Box>
        </Box>
        {account && (
          <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1, mt: 2 }}>
            <Button size="small" variant="outlined" onClick={() => link.mutate()}>
              New link for a password
            </Button>
            <Button size="small" variant="outlined" onClick={() => signOut.mutate()}>
              End all sessions
            </Button>
            {account.factor && (
              <Button size="small" variant="outlined" onClick={() => withoutFactor.mutate()}>
                Remove the second factor
              </Button>
            )}
          </Box>
        )}
        <Trouble error={save.error ?? link.error ?? signOut.error ?? withoutFactor.error ?? remove.error} />
      </DialogContent>
      <DialogActions>
        {account && !own && (
          <Box sx={{ flex: 1 }}>
            {sure ? (
              <Button color="error" onClick={() => remove.mutate()}>
                Remove it with its keys
              </Button>
            ) : (
              <Button color="error" onClick={() => setSure(true)}>
                Remove
              </Button>
            )}
          </Box>
        )}
        <Button onClick={onClose}>Cancel</Button>
        <Button type="submit" form="account" variant="contained" disabled={save.isPending || held.length === 0}>
          {account ? 'Save' : 'Make the account'}
        </Button>
      </DialogActions>
    </Dialog>
  )
}
