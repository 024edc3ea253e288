import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { keepPreviousData, useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Fragment, useState } from 'react'
import { Act } from '../access/session'
import { api, type MessageFilter, type MessageRecord } from '../api/api'
import { Choice, count, grouped, Page, Trouble, when } from '../pages/parts'
import { usePaused } from '../workbench/paused'
import { MailHead, outcomeColour, outcomes } from './MailHead'

const periods: [string, string][] = [
  ['1', 'the last hour'],
  ['24', 'the last 24 hours'],
  ['168', 'the last 7 days'],
]

/** What gateways did with messages, and which gateways there are. */
export function MessagesPage() {
  const [find, setFind] = useState('')
  const [outcome, setOutcome] = useState('')
  const [hours, setHours] = useState('24')
  const [since, setSince] = useState(() => ago('24'))
  const filter: MessageFilter = {
    find: usePaused(find, 250) || undefined,
    outcome: (outcome || undefined) as MessageFilter['outcome'],
    since,
  }
  const counts = useQuery({
    queryKey: ['messages', 'counts', filter],
    queryFn: () => api.messageCounts(filter),
    placeholderData: keepPreviousData,
    refetchInterval: 10_000,
  })
  const c = counts.data
  return (
    <Page wide>
      <MailHead title="What happened to this message">
        What gateways did with each message, and why. Records hold no content of a message.
      </MailHead>
      <Box sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap', mb: 2 }}>
        <TextField
          size="small"
          label="Message-ID, queue name or address"
          value={find}
          onChange={(e) => setFind(e.target.value)}
          helperText="The beginning is enough"
          sx={{ minWidth: 360 }}
        />
        <Choice
          label="Outcome"
          value={outcome}
          blank="every one"
          options={[...outcomes, ['failed', 'could not be stamped'], ['unsure', 'place not certain']]}
          onChange={setOutcome}
        />
        <Choice
          label="Time"
          value={hours}
          blank="as long as records are kept"
          options={periods}
          onChange={(h) => {
            setHours(h)
            setSince(ago(h))
          }}
        />
      </Box>
      <Trouble error={counts.error} />
      {c && (
        <Typography aria-live="polite" sx={{ mb: 1 }}>
          {count(c.total, 'message', 'messages')}
          {c.total > 0 && ': '}
          {outcomes
            .filter(([o]) => c.outcomes[o])
            .map(([o, says]) => `${grouped(c.outcomes[o] ?? 0)} ${says}`)
            .join(', ')}
          {c.failed > 0 && `; ${grouped(c.failed)} could not be stamped`}
          {c.unsure > 0 && `; in ${grouped(c.unsure)} the place was not certain`}.
        </Typography>
      )}
      <Records filter={filter} />
      <Gateways />
      <Keeping />
    </Page>
  )
}

/** When it was so many hours ago. */
function ago(hours: string): string | undefined {
  return hours ? new Date(Date.now() - Number(hours) * 3_600_000).toISOString() : undefined
}

function Records({ filter }: { filter: MessageFilter }) {
  const [open, setOpen] = useState<number>()
  const found = useInfiniteQuery({
    queryKey: ['messages', filter],
    queryFn: ({ pageParam }) => api.messages(filter, pageParam || undefined),
    initialPageParam: 0,
    getNextPageParam: (last) => (last.more ? last.messages.at(-1)?.id : undefined),
    placeholderData: keepPreviousData,
    refetchInterval: 10_000,
  })
  const list = found.data?.pages.flatMap((p) => p.messages) ?? []
  return (
    <>
      <Trouble error={found.error} />
      {list.length > 0 && (
        <Box sx={{ overflowX: 'auto' }}>
          <Table size="small" aria-label="Messages">
            <TableHead>
              <TableRow>
                {['Time', 'From', 'To', 'Outcome', 'Why', ''].map((h) => (
                  <TableCell key={h}>{h}</TableCell>
                ))}
              </TableRow>
            </TableHead>
            <TableBody>
              {list.map((m) => (
                <Fragment key={m.id}>
                  <TableRow>
                    <TableCell sx={{ whiteSpace: 'nowrap' }}>{exactly(m.time)}</TableCell>
                    <TableCell>{m.sender}</TableCell>
                    <TableCell>
                      {m.recipients[0]}
                      {m.recipients.length > 1 && ` and ${m.recipients.length - 1} more`}
                    </TableCell>
                    <TableCell sx={{ color: m.failed ? 'error.main' : outcomeColour(m.outcome), fontWeight: 600 }}>
                      {m.outcome === 'held' ? 'held back' : m.outcome}
                    </TableCell>
                    <TableCell>{m.says}</TableCell>
                    <TableCell>
                      <Button
                        size="small"
                        aria-expanded={open === m.id}
                        aria-label={`${open === m.id ? 'Close' : 'Details'} of ${m.messageId}`}
                        onClick={() => setOpen(open === m.id ? undefined : m.id)}
                      >
                        {open === m.id ? 'Close' : 'Details'}
                      </Button>
                    </TableCell>
                  </TableRow>
                  {open === m.id && (
                    <TableRow>
                      <TableCell colSpan={6} sx={{ bgcolor: 'background.paper' }}>
                        <Details of={m} />
                      </TableCell>
                    </TableRow>
                  )}
                </Fragment>
              ))}
            </TableBody>
          </Table>
        </Box>
      )}
      {found.hasNextPage && (
        <Button sx={{ mt: 1 }} onClick={() => void found.fetchNextPage()}>
          Show more
        </Button>
      )}
    </>
  )
}

/** A time with its seconds. */
function exactly(iso: string): string {
  return new Date(iso).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'medium' })
}

function Details({ of: m }: { of: MessageRecord }) {
  const rows: [string, string][] = [
    ['Message-ID', m.messageId || 'none'],
    ['Queue name', m.queue || '–'],
    ['Recipients', m.recipients.join(', ')],
    ['Gateway', `${m.gateway}, ${m.way === 'smtp' ? 'SMTP relay' : m.way}`],
    ['Bundle', `${m.bundle}${m.release > 0 ? `, rules of release ${m.release}` : ''}`],
    ['Size', `${grouped(m.before)} bytes before, ${grouped(m.after)} after`],
    ['Judged in', `${m.took} ms`],
  ]
  return (
    <Box sx={{ py: 1 }}>
      <Box component="dl" sx={{ display: 'grid', gridTemplateColumns: 'max-content 1fr', columnGap: 3, m: 0, mb: 1.5 }}>
        {rows.map(([what, says]) => (
          <Box key={what} sx={{ display: 'contents' }}>
            <Typography component="dt" variant="body2" color="text.secondary">
              {what}
            </Typography>
            <Typography component="dd" variant="body2" sx={{ m: 0, overflowWrap: 'anywhere' }}>
              {says}
            </Typography>
          </Box>
        ))}
      </Box>
      {m.steps.map((s) => (
        <Typography key={s.rule} variant="body2">
          <strong>{s.rule}</strong> ({s.state === 'trial' ? 'in trial' : s.state}){' '}
          {s.lacks ? `does not apply: ${s.lacks}.` : `applies. ${s.says}`}
        </Typography>
      ))}
    </Box>
  )
}

function Gateways() {
  const gateways = useQuery({ queryKey: ['gateways'], queryFn: api.gateways, refetchInterval: 10_000 })
  const list = gateways.data ?? []
  return (
    <Box component="section" aria-label="Gateways" sx={{ mt: 4 }}>
      <Typography variant="h2" sx={{ mb: 1 }}>
        Gateways
      </Typography>
      <Trouble error={gateways.error} />
      {gateways.data && list.length === 0 && (
        <Typography color="text.secondary" sx={{ maxWidth: 720 }}>
          None has reported yet. missivum serve --mail-milter ADDRESS runs one in this service; missivum gateway
          --bundle runs one beside a mail server elsewhere.
        </Typography>
      )}
      {list.length > 0 && (
        <Table size="small" aria-label="Gateways">
          <TableHead>
            <TableRow>
              {['Gateway', 'Bundle', 'Version', 'Reported', 'Messages', 'Failed', 'Records waiting'].map((h) => (
                <TableCell key={h}>{h}</TableCell>
              ))}
            </TableRow>
          </TableHead>
          <TableBody>
            {list.map((g) => (
              <TableRow key={g.gateway}>
                <TableCell>{g.gateway}</TableCell>
                <TableCell>{g.bundle}</TableCell>
                <TableCell>{g.version}</TableCell>
                <TableCell>{when(g.seen)}</TableCell>
                <TableCell>{grouped(Object.values(g.counts.outcomes).reduce((a, b) => a + b, 0))}</TableCell>
                <TableCell>{grouped(g.counts.failed)}</TableCell>
                <TableCell>
                  {grouped(g.waiting)}
                  {g.dropped > 0 && `, ${grouped(g.dropped)} dropped`}
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
    </Box>
  )
}

function Keeping() {
  const queries = useQueryClient()
  const settings = useQuery({ queryKey: ['message settings'], queryFn: api.messageSettings })
  const [days, setDays] = useState<string>()
  const put = useMutation({
    mutationFn: () => api.putMessageSettings(Number(days)),
    onSuccess: () => {
      setDays(undefined)
      void queries.invalidateQueries({ queryKey: ['message settings'] })
    },
  })
  if (!settings.data) return <Trouble error={settings.error} />
  return (
    <Box sx={{ mt: 4, display: 'flex', gap: 1.5, alignItems: 'center' }}>
      <TextField
        size="small"
        type="number"
        label="Days that records are kept"
        value={days ?? String(settings.data.days)}
        onChange={(e) => setDays(e.target.value)}
        sx={{ width: 220 }}
      />
      <Act needs="settings" disabled={days === undefined || put.isPending} onClick={() => put.mutate()}>
        Save
      </Act>
      <Trouble error={put.error} />
    </Box>
  )
}
