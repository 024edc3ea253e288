import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Tooltip from '@mui/material/Tooltip'
import Typography from '@mui/material/Typography'
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, recordFile, type Entry, type RecordFilter } from '../api/api'
import { Choice, count, Page, Trouble } from '../pages/parts'
import { codeFont } from '../theme'
import { AccessHead } from './AccessHead'
import { Allowed } from './session'
import { ToKeep } from './ToKeep'

const second = (iso: string) => new Date(iso).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'medium' })

const pairs = (list?: string[]): [string, string][] => (list ?? []).map((one) => [one, one])

/** Who did what. */
export function RecordPage() {
  const [filter, setFilter] = useState<RecordFilter>({})
  const words = useQuery({ queryKey: ['record-words'], queryFn: api.recordWords })
  const entries = useInfiniteQuery({
    queryKey: ['record', filter],
    queryFn: ({ pageParam }) => api.record(filter, pageParam),
    initialPageParam: 0,
    getNextPageParam: (last: Entry[]) => (last.length < 200 ? undefined : last[last.length - 1]?.number),
  })
  const check = useMutation({ mutationFn: api.checkRecord })
  const set = (key: keyof RecordFilter) => (value: string) => setFilter({ ...filter, [key]: value || undefined })
  const list = entries.data?.pages.flat() ?? []
  return (
    <Page wide>
      <AccessHead
        title="Record"
        actions={
          <>
            <Link href={recordFile(filter)} download>
              As CSV
            </Link>
            <Button variant="outlined" disabled={check.isPending} onClick={() => check.mutate()}>
              Check that it is whole
            </Button>
          </>
        }
      >
        Every change: when, by whom, from where, to what. Each entry holds a digest of the one before, so that one that
        was altered or taken out is noticed.
      </AccessHead>
      <Trouble error={entries.error ?? words.error ?? check.error} />
      {check.data && !check.data.whole && <Trouble error={new Error(check.data.says)} />}
      {check.data?.whole && (
        <ToKeep label="Number and link of the last entry" text={`${check.data.last}:${check.data.link}`}>
          The record is whole: {count(check.data.entries, 'entry', 'entries')}
          {check.data.pruned > 0 && `; those up to ${check.data.pruned} were pruned`}. Keep this outside for the next
          check:
        </ToKeep>
      )}
      <Box sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap', mb: 2 }}>
        <TextField
          size="small"
          sx={{ width: 150 }}
          label="Who"
          value={filter.who ?? ''}
          onChange={(e) => set('who')(e.target.value)}
        />
        <Choice
          label="Action"
          value={filter.action ?? ''}
          blank="every action"
          options={pairs(words.data?.actions)}
          onChange={set('action')}
        />
        <Choice
          label="Kind of thing"
          value={filter.object ?? ''}
          blank="every kind"
          options={pairs(words.data?.objects)}
          onChange={set('object')}
        />
        <TextField
          size="small"
          sx={{ width: 150 }}
          label="Name"
          value={filter.name ?? ''}
          onChange={(e) => set('name')(e.target.value)}
        />
        {(['since', 'until'] as const).map((key) => (
          <TextField
            key={key}
            size="small"
            type="date"
            label={key === 'since' ? 'Since' : 'Until'}
            value={filter[key] ?? ''}
            slotProps={{ inputLabel: { shrink: true } }}
            onChange={(e) => set(key)(e.target.value)}
          />
        ))}
      </Box>
      <Table size="small" aria-label="Record">
        <TableHead>
          <TableRow>
            {['Number', 'Time', 'Who', 'Action', 'What', 'Detail', 'Content'].map((h) => (
              <TableCell key={h}>{h}</TableCell>
            ))}
          </TableRow>
        </TableHead>
        <TableBody>
          {list.map((e) => (
            <TableRow key={e.number}>
              <TableCell>{e.number}</TableCell>
              <TableCell sx={{ whiteSpace: 'nowrap' }}>{second(e.at)}</TableCell>
              <TableCell>
                {e.by.name}
                <Typography variant="body2" color="text.secondary">
                  {e.by.kind === 'account' ? '' : e.by.kind}
                  {e.where && ` from ${e.where}`}
                </Typography>
              </TableCell>
              <TableCell>{e.action}</TableCell>
              <TableCell>
                {e.object} {e.name}
              </TableCell>
              <TableCell sx={{ maxWidth: 420, overflowWrap: 'anywhere' }}>
                {e.detail.length > 160 ? `${e.detail.slice(0, 160)} …` : e.detail}
              </TableCell>
              <TableCell>
                <Digests entry={e} />
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      {entries.isSuccess && list.length === 0 && (
        <Typography color="text.secondary" sx={{ mt: 2 }}>
          No entry is like this.
        </Typography>
      )}
      {entries.hasNextPage && (
        <Button sx={{ mt: 2 }} disabled={entries.isFetching} onClick={() => void entries.fetchNextPage()}>
          Earlier ones
        </Button>
      )}
      <Allowed to="settings">
        <Keep />
      </Allowed>
    </Page>
  )
}

function Digests({ entry: e }: { entry: Entry }) {
  if (!e.before && !e.after) return <>–</>
  const short = (digest: string) => (digest ? digest.slice(0, 8) : 'none')
  return (
    <Tooltip title={`SHA-256 before: ${e.before || 'none'}; after: ${e.after || 'none'}`}>
      <Box component="span" tabIndex={0} sx={{ fontFamily: codeFont, fontSize: 12, whiteSpace: 'nowrap' }}>
        {short(e.before)} → {short(e.after)}
      </Box>
    </Tooltip>
  )
}

/** For how long entries are kept. */
function Keep() {
  const queries = useQueryClient()
  const settings = useQuery({ queryKey: ['record-settings'], queryFn: api.recordSettings })
  const [days, setDays] = useState<string>()
  const put = useMutation({
    mutationFn: (n: number) => api.putRecordSettings(n),
    onSuccess: () => {
      setDays(undefined)
      void queries.invalidateQueries({ queryKey: ['record-settings'] })
    },
  })
  if (!settings.data) return null
  const shown = days ?? (settings.data.days ? String(settings.data.days) : '')
  return (
    <Box sx={{ display: 'flex', gap: 1.5, alignItems: 'center', mt: 4 }}>
      <Typography>Entries are kept for</Typography>
      <TextField
        size="small"
        value={shown}
        placeholder="ever"
        sx={{ width: 90 }}
        slotProps={{ htmlInput: { 'aria-label': 'Days that entries are kept', inputMode: 'numeric' } }}
        onChange={(e) => setDays(e.target.value)}
      />
      <Typography>days; blank for ever, at least 30.</Typography>
      {days !== undefined && (
        <Button size="small" variant="outlined" onClick={() => put.mutate(Number(days) || 0)}>
          Save
        </Button>
      )}
      <Trouble error={put.error} />
    </Box>
  )
}
