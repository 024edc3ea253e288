import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { type ReactNode, useState } from 'react'
import { api, type Session } from '../api/api'
import { count, Page, PageHead, Section, SourceBox, Trouble } from '../pages/parts'
import { Keys } from './keys'
import { useSession } from './session'
import { ToKeep } from './ToKeep'

/** One's own account: password, second factor, keys. */
export function AccountPage() {
  const session = useSession()
  if (!session) return null
  if (session.kind !== 'account')
    return (
      <Page>
        <PageHead title="Your account">
          There are no accounts: whoever uses this machine may do everything. The first is made under Settings.
        </PageHead>
      </Page>
    )
  return (
    <Page>
      <PageHead title="Your account">
        {session.title ? `${session.title}, ` : ''}
        {session.name}. Your roles: {session.roles.join(', ')}.
      </PageHead>
      {session.password && <Password />}
      {session.password && <Factor session={session} />}
      <Section title="Your keys">
        <Typography color="text.secondary" sx={{ mb: 2 }}>
          With a key of yours a program acts for you, with your roles. missivum sign-in makes one by itself.
        </Typography>
        <Keys own />
      </Section>
      <Everywhere />
    </Page>
  )
}

function Secret(props: { label: string; value: string; fresh?: boolean; onChange: (text: string) => void }) {
  return (
    <TextField
      size="small"
      type="password"
      label={props.label}
      value={props.value}
      required
      autoComplete={props.fresh ? 'new-password' : 'current-password'}
      onChange={(e) => props.onChange(e.target.value)}
    />
  )
}

function Row({ label, children, onSubmit }: { label: string; children: ReactNode; onSubmit: () => void }) {
  return (
    <Box
      component="form"
      aria-label={label}
      sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap', alignItems: 'center' }}
      onSubmit={(e) => {
        e.preventDefault()
        onSubmit()
      }}
    >
      {children}
    </Box>
  )
}

function Password() {
  const [current, setCurrent] = useState('')
  const [password, setPassword] = useState('')
  const put = useMutation({
    mutationFn: () => api.putOwnPassword(current, password),
    onSuccess: () => {
      setCurrent('')
      setPassword('')
    },
  })
  return (
    <Section title="Password">
      <Row label="Password" onSubmit={() => put.mutate()}>
        <Secret label="Password now" value={current} onChange={setCurrent} />
        <Secret label="New password" value={password} fresh onChange={setPassword} />
        <Button type="submit" variant="outlined" disabled={put.isPending}>
          Change the password
        </Button>
      </Row>
      <Trouble error={put.error} />
      {put.isSuccess && (
        <Alert severity="success" variant="outlined" sx={{ mt: 1 }}>
          The password is changed. All your other sessions have ended.
        </Alert>
      )}
    </Section>
  )
}

function Factor({ session }: { session: Session }) {
  const queries = useQueryClient()
  const [current, setCurrent] = useState('')
  const [code, setCode] = useState('')
  const refresh = () => {
    setCurrent('')
    void queries.invalidateQueries({ queryKey: ['session'] })
  }
  const begin = useMutation({ mutationFn: () => api.beginFactor(current), onSuccess: () => setCurrent('') })
  const confirm = useMutation({
    mutationFn: () => api.confirmFactor(code),
    onSuccess: () => {
      setCode('')
      begin.reset()
      refresh()
    },
  })
  const remove = useMutation({ mutationFn: () => api.removeFactor(current), onSuccess: refresh })
  return (
    <Section title="Second factor">
      {confirm.data && (
        <ToKeep label="Recovery codes" text={confirm.data.recovery.join('\n')}>
          The second factor is set up. Keep these recovery codes where you find them without your telephone; each lets
          you in once. They are shown only now.
        </ToKeep>
      )}
      <Typography color="text.secondary" sx={{ mb: 1.5 }}>
        {session.factor
          ? `Signing in needs a code of your telephone. You have ${count(session.recovery, 'recovery code', 'recovery codes')} left.`
          : 'With a second factor, signing in needs a code that a program on your telephone shows, beside the password.'}
      </Typography>
      {begin.data && !session.factor ? (
        <Setup secret={begin.data.secret} address={begin.data.address}>
          <Row label="Confirm the second factor" onSubmit={() => confirm.mutate()}>
            <TextField
              size="small"
              label="Code that it shows"
              value={code}
              required
              autoComplete="one-time-code"
              onChange={(e) => setCode(e.target.value)}
            />
            <Button type="submit" variant="contained" disabled={confirm.isPending}>
              Set it up
            </Button>
            <Button onClick={() => begin.reset()}>Cancel</Button>
          </Row>
        </Setup>
      ) : (
        <Row label="Second factor" onSubmit={() => (session.factor ? remove.mutate() : begin.mutate())}>
          <Secret label="Password now" value={current} onChange={setCurrent} />
          <Button type="submit" variant="outlined" color={session.factor ? 'error' : 'primary'}>
            {session.factor ? 'Remove the second factor' : 'Set up a second factor'}
          </Button>
        </Row>
      )}
      <Trouble error={begin.error ?? confirm.error ?? remove.error} />
    </Section>
  )
}

function Setup({ secret, address, children }: { secret: string; address: string; children: ReactNode }) {
  const code = useQuery({
    queryKey: ['factor-code', address],
    queryFn: () => api.code({ text: address, recipe: { width: 230 } }),
  })
  return (
    <Box sx={{ display: 'flex', gap: 3, flexWrap: 'wrap' }}>
      {code.data && (
        <Box sx={{ bgcolor: '#fff', p: 1, alignSelf: 'flex-start' }}>
          <img src={code.data.image} width={code.data.width} height={code.data.width} alt="Code for your telephone" />
        </Box>
      )}
      <Box sx={{ flex: 1, minWidth: 280, display: 'flex', flexDirection: 'column', gap: 1.5 }}>
        <Typography>
          Read this with a program for one-time codes on your telephone, or type the secret into it. Then type the code
          that it shows.
        </Typography>
        <SourceBox label="Secret">{secret.replace(/(.{4})/g, '$1 ').trim()}</SourceBox>
        {children}
      </Box>
    </Box>
  )
}

function Everywhere() {
  const out = useMutation({
    mutationFn: () => api.signOut(true),
    onSuccess: () => location.assign('/sign-in'),
  })
  return (
    <Section title="Sessions">
      <Button variant="outlined" onClick={() => out.mutate()}>
        Sign out everywhere
      </Button>
      <Trouble error={out.error} />
    </Section>
  )
}
