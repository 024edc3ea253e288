import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { type ReactNode, useState } from 'react'
import { api, Refusal } from '../api/api'

/** The page that is asked for after signing in: one of this console, never of another host. */
function goal(): string {
  const to = new URLSearchParams(location.search).get('to') ?? '/'
  const url = new URL(to, location.origin)
  return url.origin === location.origin && url.pathname !== '/sign-in' ? url.pathname + url.search : '/'
}

const secretOf = (name: string) => new URLSearchParams(location.hash.slice(1)).get(name) ?? ''

/** Signing in, choosing a password with a link, and the first administrator. */
export function SignIn() {
  const ways = useQuery({ queryKey: ['sign-in'], queryFn: api.signInWays })
  const [link, setLink] = useState(() => secretOf('link'))
  const [name, setName] = useState('')
  const first = secretOf('first')
  if (ways.isPending) return <Frame title="Sign in" />
  if (!ways.data)
    return (
      <Frame title="Sign in">
        <Says error={ways.error} />
      </Frame>
    )
  if (link)
    return (
      <Choose
        secret={link}
        onDone={(chosen) => {
          history.replaceState(null, '', '/sign-in')
          setName(chosen)
          setLink('')
        }}
      />
    )
  if (ways.data.firstStart) return first ? <First secret={first} /> : <NotYet />
  if (!ways.data.accounts)
    return (
      <Frame title="No account is needed">
        <Typography>There are no accounts: whoever uses this machine may do everything.</Typography>
        <Button variant="contained" href={goal()}>
          Go on
        </Button>
      </Frame>
    )
  return <Enter chosen={name} provider={ways.data.provider} />
}

function Frame({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <Box
      component="main"
      sx={{ minHeight: '100dvh', display: 'flex', flexDirection: 'column', alignItems: 'center', pt: '14vh', px: 2 }}
    >
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.2, mb: 4 }}>
        <img src="/mark.svg" width="32" height="32" alt="" />
        <Typography component="span" sx={{ fontWeight: 660, fontSize: '1.3rem', letterSpacing: '-0.01em' }}>
          Missivum
        </Typography>
      </Box>
      <Box sx={{ width: '100%', maxWidth: 400, display: 'flex', flexDirection: 'column', gap: 2 }}>
        <Typography variant="h1" sx={{ fontSize: '1.5rem' }}>
          {title}
        </Typography>
        {children}
      </Box>
    </Box>
  )
}

function Says({ error }: { error: unknown }) {
  if (!error) return null
  return (
    <Alert severity="error" variant="outlined">
      {error instanceof Error ? error.message : String(error)}
    </Alert>
  )
}

function NotYet() {
  return (
    <Frame title="Not set up yet">
      <Typography>
        There is no account yet. The service printed a link when it started, in its log or on the screen where it was
        started; that link makes the first administrator.
      </Typography>
    </Frame>
  )
}

function Form({ children, onSubmit, label }: { children: ReactNode; onSubmit: () => void; label: string }) {
  return (
    <Box
      component="form"
      aria-label={label}
      sx={{ display: 'flex', flexDirection: 'column', gap: 2 }}
      onSubmit={(e) => {
        e.preventDefault()
        onSubmit()
      }}
    >
      {children}
    </Box>
  )
}

/** Why somebody does not get in by the identity provider. */
const whys: Record<string, string> = {
  provider: 'The identity provider does not answer as it should. The log of the service says more.',
  state: 'What the identity provider sent back does not belong to what was begun here, or it took too long. Try again.',
  name: 'The identity provider gives no name for you, or not one that it has verified.',
  roles: 'The identity provider gives you no role here. An administrator can say which group has which.',
  taken: 'There is an account of your name that signs in with a password. An administrator can remove it.',
}

function Enter({ chosen, provider }: { chosen: string; provider: string }) {
  const why = new URLSearchParams(location.search).get('why')
  const [name, setName] = useState(chosen)
  const [password, setPassword] = useState('')
  const [code, setCode] = useState('')
  const enter = useMutation({
    mutationFn: () => api.signIn({ name, password, code }),
    onSuccess: () => location.assign(goal()),
  })
  const [wantsCode, setWantsCode] = useState(false)
  const refused = enter.error instanceof Refusal ? enter.error : undefined
  if (refused?.field === 'code' && !wantsCode) setWantsCode(true)
  return (
    <Frame title="Sign in">
      {why !== null && <Says error={whys[why] ?? whys['provider']} />}
      {provider && (
        <>
          <Button variant="outlined" href={`/api/v1/sign-in/provider?to=${encodeURIComponent(goal())}`}>
            {`Sign in with ${provider}`}
          </Button>
          <Typography color="text.secondary" sx={{ textAlign: 'center' }}>
            or with a password
          </Typography>
        </>
      )}
      <Form label="Sign in" onSubmit={() => enter.mutate()}>
        {chosen && !enter.error && (
          <Alert severity="success" variant="outlined">
            Your password is set. Sign in with it.
          </Alert>
        )}
        <TextField
          label="Name"
          value={name}
          autoComplete="username"
          required
          autoFocus={!chosen}
          onChange={(e) => setName(e.target.value)}
        />
        <TextField
          label="Password"
          type="password"
          value={password}
          autoComplete="current-password"
          required
          autoFocus={chosen !== ''}
          onChange={(e) => setPassword(e.target.value)}
        />
        {wantsCode && (
          <TextField
            label="Code of your second factor"
            value={code}
            autoComplete="one-time-code"
            required
            autoFocus
            helperText="Six digits of your telephone, or one of your recovery codes."
            onChange={(e) => setCode(e.target.value)}
          />
        )}
        {!(wantsCode && code === '') && <Says error={enter.error} />}
        <Button type="submit" variant="contained" disabled={enter.isPending}>
          Sign in
        </Button>
      </Form>
    </Frame>
  )
}

function NewPassword({ value, onChange }: { value: string; onChange: (text: string) => void }) {
  return (
    <TextField
      label="Password"
      type="password"
      value={value}
      autoComplete="new-password"
      required
      helperText="At least 12 characters. Four words that do not belong together are good."
      onChange={(e) => onChange(e.target.value)}
    />
  )
}

function First({ secret }: { secret: string }) {
  const [name, setName] = useState('')
  const [title, setTitle] = useState('')
  const [password, setPassword] = useState('')
  const start = useMutation({
    mutationFn: () => api.firstStart({ secret, name, title, password }),
    onSuccess: () => location.assign('/'),
  })
  return (
    <Frame title="The first administrator">
      <Typography color="text.secondary">
        This account may do everything. It can make accounts for others, and give roles away, under Settings.
      </Typography>
      <Form label="The first administrator" onSubmit={() => start.mutate()}>
        <TextField
          label="Name to sign in with"
          value={name}
          autoComplete="username"
          required
          autoFocus
          helperText="Such as a mail address; without spaces."
          onChange={(e) => setName(e.target.value)}
        />
        <TextField label="Your name, as others see it" value={title} onChange={(e) => setTitle(e.target.value)} />
        <NewPassword value={password} onChange={setPassword} />
        <Says error={start.error} />
        <Button type="submit" variant="contained" disabled={start.isPending}>
          Make the account
        </Button>
      </Form>
    </Frame>
  )
}

function Choose({ secret, onDone }: { secret: string; onDone: (name: string) => void }) {
  const whose = useQuery({ queryKey: ['link', secret], queryFn: () => api.openLink(secret) })
  const [password, setPassword] = useState('')
  const choose = useMutation({
    mutationFn: () => api.choosePassword(secret, password),
    onSuccess: (of) => onDone(of.name),
  })
  if (!whose.data)
    return (
      <Frame title="Choose a password">
        <Says error={whose.error} />
        {whose.error && <Button href="/sign-in">Sign in</Button>}
      </Frame>
    )
  return (
    <Frame title="Choose a password">
      <Typography>
        For the account {whose.data.name}
        {whose.data.title && ` (${whose.data.title})`}.
      </Typography>
      <Form label="Choose a password" onSubmit={() => choose.mutate()}>
        <input type="hidden" name="username" autoComplete="username" value={whose.data.name} readOnly />
        <NewPassword value={password} onChange={setPassword} />
        <Says error={choose.error} />
        <Button type="submit" variant="contained" disabled={choose.isPending}>
          Set the password
        </Button>
      </Form>
    </Frame>
  )
}
