import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import CircularProgress from '@mui/material/CircularProgress'
import MenuItem from '@mui/material/MenuItem'
import Tab from '@mui/material/Tab'
import Tabs from '@mui/material/Tabs'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { type ReactNode, useEffect, useState } from 'react'
import { useIntl } from 'react-intl'
import { api, type PersonalOverview, Refusal } from '../api/api'
import { CheckMine } from './CheckMine'
import { MyDetails } from './MyDetails'
import { languages, ofBrowser, useSay, useSpoken } from './language'
import { ProgramPicker } from './ProgramPicker'
import { SetUp } from './SetUp'

/** What a personal link ends with; it leaves the address bar once the device is known. */
function tokenOf(): string {
  return location.hash.slice(1)
}

/** The page: opens the link, and then shows what the person needs now. */
export function YourSignature() {
  const [token, setToken] = useState(tokenOf)
  useEffect(() => {
    const another = () => tokenOf() && setToken(tokenOf())
    addEventListener('hashchange', another)
    return () => removeEventListener('hashchange', another)
  }, [])
  const opened = useQuery({
    queryKey: ['opened', token],
    queryFn: async () => {
      if (token) await api.openPersonal(token)
      history.replaceState(null, '', location.pathname)
      return true
    },
    staleTime: Infinity,
  })
  const overview = useQuery({
    queryKey: ['overview'],
    queryFn: api.personal,
    enabled: opened.isSuccess || opened.isError,
  })
  const { speak } = useSpoken()
  const chosen = overview.data?.language
  useEffect(() => {
    if (chosen) speak(chosen)
  }, [chosen, speak])
  const failed = opened.error ?? overview.error
  if (failed && !(opened.isSuccess && overview.data)) {
    return <Closed error={failed} again={() => void (opened.error ? opened.refetch() : overview.refetch())} />
  }
  if (!overview.data) return <Frame busy />
  return <Opened overview={overview.data} />
}

function Frame({ busy, children, ends }: { busy?: boolean; children?: ReactNode; ends?: string }) {
  const say = useSay()
  const intl = useIntl()
  const { language, speak } = useSpoken()
  return (
    <Box sx={{ maxWidth: 1180, mx: 'auto', px: { xs: 2, sm: 4 }, pb: 8 }}>
      <Box
        component="header"
        sx={{ display: 'flex', alignItems: 'center', gap: 2, py: 2, borderBottom: 1, borderColor: 'divider', mb: 3 }}
      >
        <Box component="img" src="/mark.svg" alt="" sx={{ width: 28, height: 28 }} />
        <Typography sx={{ fontWeight: 600, flexGrow: 1 }}>{say('title')}</Typography>
        <TextField
          select
          size="small"
          variant="standard"
          label={say('language')}
          value={language}
          onChange={(event) => speak(event.target.value)}
          sx={{ minWidth: 110 }}
        >
          {Object.entries(languages).map(([id, name]) => (
            <MenuItem key={id} value={id} lang={id}>
              {name}
            </MenuItem>
          ))}
        </TextField>
      </Box>
      <Box component="main">
        {busy ? (
          <Box role="status" sx={{ display: 'flex', gap: 2, alignItems: 'center', py: 8 }}>
            <CircularProgress size={22} aria-hidden />
            {say('opening')}
          </Box>
        ) : (
          children
        )}
      </Box>
      {ends && (
        <Typography component="footer" variant="body2" color="text.secondary" sx={{ mt: 6 }}>
          {say('ends', { when: intl.formatDate(ends, { dateStyle: 'long' }) })}
        </Typography>
      )}
    </Box>
  )
}

function Closed({ error, again }: { error: Error; again: () => void }) {
  const say = useSay()
  const status = error instanceof Refusal ? error.status : 0
  const why =
    status === 401
      ? 'closed.link'
      : status === 404
        ? error.message.startsWith('There is no signature')
          ? 'closed.none'
          : 'closed.link'
        : status === 429
          ? 'closed.wait'
          : 'closed.away'
  return (
    <Frame>
      <Typography variant="h1" gutterBottom>
        {say('closed.title')}
      </Typography>
      <Alert severity="info" sx={{ mb: 2 }}>
        {say(why)}
      </Alert>
      <Button variant="outlined" onClick={again}>
        {say('tryAgain')}
      </Button>
    </Frame>
  )
}

type Part = 'install' | 'check' | 'details'

function Opened({ overview }: { overview: PersonalOverview }) {
  const say = useSay()
  const { language } = useSpoken()
  const queries = useQueryClient()
  const [part, setPart] = useState<Part>('install')
  const [client, setClient] = useState(overview.client)
  const choose = useMutation({
    mutationFn: (id: string) =>
      api.putPersonalChoice(id, language === ofBrowser() && !overview.language ? '' : language),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['overview'] }),
  })
  const pick = (id: string) => {
    setClient(id)
    if (overview.changes && id) choose.mutate(id)
  }
  // a language that was chosen on the page is remembered with the program
  const { mutate } = choose
  useEffect(() => {
    if (overview.changes && client && language !== (overview.language || ofBrowser())) mutate(client)
  }, [language, overview.changes, overview.language, client, mutate])
  const program = overview.programs.find((p) => p.id === client)
  const parts: Part[] = overview.changes
    ? overview.details
      ? ['install', 'check', 'details']
      : ['install', 'check']
    : ['install']
  return (
    <Frame ends={overview.ends}>
      <Typography variant="h1" gutterBottom>
        {say('hello', { name: overview.name })}
      </Typography>
      {!overview.changes && (
        <Alert severity="info" sx={{ mb: 2 }}>
          {say('guest')}
        </Alert>
      )}
      {!program ? (
        <ProgramPicker programs={overview.programs} onPick={pick} />
      ) : (
        <>
          <Box sx={{ display: 'flex', flexWrap: 'wrap', alignItems: 'baseline', columnGap: 2, mb: 1 }}>
            <Typography>{say('program.chosen', { program: program.title })}</Typography>
            <Button size="small" onClick={() => setClient('')}>
              {say('program.other')}
            </Button>
          </Box>
          {parts.length > 1 && (
            <Tabs
              value={part}
              onChange={(_, value: Part) => setPart(value)}
              aria-label={say('title')}
              variant="scrollable"
              sx={{ mb: 3 }}
            >
              {parts.map((p) => (
                <Tab key={p} value={p} id={`tab-${p}`} aria-controls={`part-${p}`} label={say(`tab.${p}`)} />
              ))}
            </Tabs>
          )}
          <Box
            role={parts.length > 1 ? 'tabpanel' : undefined}
            id={`part-${part}`}
            aria-labelledby={parts.length > 1 ? `tab-${part}` : undefined}
          >
            {part === 'install' && (
              <SetUp key={program.id} overview={overview} program={program} onCheck={() => setPart('check')} />
            )}
            {part === 'check' && (
              <CheckMine overview={overview} client={program.id} onInstall={() => setPart('install')} />
            )}
            {part === 'details' && (
              <MyDetails client={program.id} situation={overview.uses.find((u) => u.signature)?.situation} />
            )}
          </Box>
        </>
      )}
    </Frame>
  )
}
