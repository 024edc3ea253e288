import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import Pagination from '@mui/material/Pagination'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useDeferredValue, useState } from 'react'
import { Link as RouterLink, useSearchParams } from 'react-router'
import { api, type DeskFilter, type DeskMatrix, type DeskRow, type Standing } from '../api/api'
import { Choice, count, grouped, Page, PageHead, PageTabs, Trouble, when } from '../pages/parts'
import { deskPages, StandingMark, standings } from './states'

const size = 50

/** People down, clients across: whose desks have the release, and what to do about the others. */
export function DesksPage() {
  const [query] = useSearchParams()
  const [search, setSearch] = useState('')
  const [standing, setStanding] = useState('')
  const [client, setClient] = useState('')
  const [audience, setAudience] = useState('')
  const [wave, setWave] = useState(Number(query.get('wave')) || 0)
  const [page, setPage] = useState(1)
  const [copied, setCopied] = useState('')
  const [failed, setFailed] = useState<unknown>()
  const audiences = useQuery({ queryKey: ['audiences'], queryFn: api.audiences })
  const filter = { search: useDeferredValue(search), standing, client, audience, wave }
  const desks = useQuery({
    queryKey: ['desks', filter, page],
    queryFn: () => api.desks(filter, (page - 1) * size, size),
    placeholderData: keepPreviousData,
    refetchInterval: 15_000,
  })
  const m = desks.data
  const first =
    <T,>(set: (value: T) => void) =>
    (value: T) => {
      set(value)
      setPage(1)
    }
  return (
    <Page wide>
      <PageTabs label="How signatures get there" pages={deskPages} />
      <PageHead
        title="Desks"
        actions={
          <>
            <Typography aria-live="polite">{copied}</Typography>
            <Button
              onClick={() =>
                void copyAddresses(filter).then(
                  (n) => setCopied(`${count(n, 'address', 'addresses')} copied`),
                  setFailed,
                )
              }
            >
              Copy the mail addresses
            </Button>
            <Button variant="outlined" onClick={() => void saveTable(filter)}>
              Save as CSV
            </Button>
          </>
        }
      >
        {m?.release ? (
          <>
            Who has{' '}
            <Link component={RouterLink} to={`/releases/${m.release}`}>
              release {m.release}
            </Link>
            , as desks and people report it. {count(m.desks, 'desk has', 'desks have')} reported.
          </>
        ) : (
          'Nothing is out. A release that was sent out shows here, desk by desk.'
        )}
      </PageHead>
      <Trouble error={desks.error ?? failed} />
      {m && <Counts matrix={m} chosen={standing} onChoose={(s) => setStanding(s === standing ? '' : s)} />}
      <Box sx={{ display: 'flex', gap: 1.5, my: 2, alignItems: 'center', flexWrap: 'wrap' }}>
        <TextField
          size="small"
          type="search"
          label="Search"
          value={search}
          onChange={(e) => first(setSearch)(e.target.value)}
        />
        <Choice
          label="Standing"
          value={standing}
          blank="every standing"
          options={Object.keys(standings).map((s) => [s, s])}
          onChange={first(setStanding)}
        />
        <Choice
          label="Wave"
          value={wave ? String(wave) : ''}
          blank="every wave"
          options={(m?.waves ?? []).map((w) => [String(w.number), `${w.number}: ${w.audience || 'everybody'}`])}
          onChange={first((v) => setWave(Number(v) || 0))}
        />
        <Choice
          label="Client"
          value={client}
          blank="every client"
          options={(m?.clients ?? []).map((c) => [c, c])}
          onChange={first(setClient)}
        />
        <Choice
          label="Audience"
          value={audience}
          blank="everybody"
          options={(audiences.data ?? []).map((a) => [a.name, a.title || a.name])}
          onChange={first(setAudience)}
        />
        {m && <Typography>{count(m.total, 'person', 'people')}</Typography>}
      </Box>
      {m && m.rows.length > 0 && <Matrix matrix={m} />}
      {m && m.total > size && (
        <Pagination sx={{ mt: 2 }} count={Math.ceil(m.total / size)} page={page} onChange={(_, to) => setPage(to)} />
      )}
    </Page>
  )
}

/** How many people stand how; each is a filter. */
function Counts({
  matrix,
  chosen,
  onChoose,
}: {
  matrix: DeskMatrix
  chosen: string
  onChoose: (standing: Standing) => void
}) {
  return (
    <Box sx={{ display: 'flex', gap: 2.5, flexWrap: 'wrap' }}>
      {(Object.keys(standings) as Standing[])
        .filter((s) => matrix.counts[s])
        .map((s) => (
          <Button
            key={s}
            color="inherit"
            variant={chosen === s ? 'outlined' : 'text'}
            aria-pressed={chosen === s}
            title={standings[s]}
            onClick={() => onChoose(s)}
          >
            <b>{grouped(matrix.counts[s] ?? 0)}</b>&nbsp;
            <StandingMark of={s} />
          </Button>
        ))}
    </Box>
  )
}

function Matrix({ matrix }: { matrix: DeskMatrix }) {
  return (
    <Box sx={{ overflowX: 'auto' }}>
      <Table size="small" aria-label="Desks">
        <TableHead>
          <TableRow>
            {['Person', 'Wave', 'Standing', ...matrix.clients, 'Next'].map((h) => (
              <TableCell key={h}>{h}</TableCell>
            ))}
          </TableRow>
        </TableHead>
        <TableBody>
          {matrix.rows.map((row) => (
            <TableRow key={row.mail}>
              <TableCell>
                {row.name}
                <Typography variant="body2" color="text.secondary" sx={{ overflowWrap: 'anywhere' }}>
                  {row.mail}
                </Typography>
              </TableCell>
              <TableCell>{row.wave || ''}</TableCell>
              <TableCell>
                <StandingMark of={row.standing} />
              </TableCell>
              {matrix.clients.map((client) => (
                <TableCell key={client}>
                  <Cell row={row} client={client} />
                </TableCell>
              ))}
              <TableCell sx={{ maxWidth: 320 }}>{row.next}</TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </Box>
  )
}

const ways = { desk: 'looked at on the desk', page: 'checked by the person', 'add-on': 'put in by the add-on' } as const

function Cell({ row, client }: { row: DeskRow; client: string }) {
  return row.cells
    .filter((c) => c.client === client)
    .map((cell) => {
      const fine = cell.standing === 'current'
      return (
        <Box key={cell.way} sx={{ mb: 0.5 }}>
          <StandingMark of={cell.standing} />
          <Typography
            variant="body2"
            color="text.secondary"
            sx={{ maxWidth: 260, overflowWrap: 'anywhere' }}
            title={cell.reported && `reported ${when(cell.reported)}`}
          >
            {!fine && cell.detail && `${cell.detail}. `}
            {cell.standing === 'older' && `Release ${cell.release || 'of a package'}. `}
            {cell.host || ways[cell.way]}
            {cell.desks > 1 && ` and ${count(cell.desks - 1, 'more desk', 'more desks')}`}
            {(!fine || !cell.host) && cell.reported && `, ${when(cell.reported)}`}
          </Typography>
        </Box>
      )
    })
}

/** Copies the addresses of everybody whom the filter leaves, to remind them in one message. */
async function copyAddresses(filter: DeskFilter): Promise<number> {
  const addresses: string[] = []
  for (;;) {
    const part = await api.desks(filter, addresses.length, 1000)
    addresses.push(...part.rows.map((r) => r.mail))
    if (part.rows.length === 0 || addresses.length >= part.total) break
  }
  await navigator.clipboard.writeText(addresses.join(', '))
  return addresses.length
}

/** Saves everything that the filter leaves as a table. */
async function saveTable(filter: Record<string, string | number>) {
  const query = new URLSearchParams(Object.entries(filter).map(([k, v]) => [k, String(v)]))
  const answer = await fetch(`/api/v1/desks?${query}`, { headers: { Accept: 'text/csv' } })
  const link = document.createElement('a')
  link.href = URL.createObjectURL(await answer.blob())
  link.download = 'desks.csv'
  link.click()
  URL.revokeObjectURL(link.href)
}
