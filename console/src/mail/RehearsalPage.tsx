import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import FormControlLabel from '@mui/material/FormControlLabel'
import LinearProgress from '@mui/material/LinearProgress'
import Switch from '@mui/material/Switch'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableRow from '@mui/material/TableRow'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, type Job, type Rehearsal } from '../api/api'
import { count, grouped, Page, Trouble, when } from '../pages/parts'
import { DropFile } from './DropFile'
import { MailHead, outcomes } from './MailHead'

/** What the rules would do to stored mail. */
export function RehearsalPage() {
  const queries = useQueryClient()
  const [trials, setTrials] = useState(true)
  const jobs = useQuery({
    queryKey: ['rehearsals'],
    queryFn: api.rehearsals,
    refetchInterval: (q) => (q.state.data?.some(going) ? 400 : false),
  })
  const start = useMutation({
    mutationFn: (file: File) => api.rehearseMailRules(file, trials),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ['rehearsals'] }),
  })
  const last = jobs.data?.[0]
  return (
    <Page>
      <MailHead title="Rehearsal">
        What the latest mail rules would do to stored mail, last week&apos;s for example. Only counts and where messages
        lie are shown, and the mail is removed when it was read.
      </MailHead>
      <DropFile
        label="Choose stored mail"
        accept=".mbox,.mbx,.zip,.eml"
        onFile={(file) => {
          start.mutate(file)
        }}
      >
        {start.isPending
          ? 'The mail is sent to the service ...'
          : 'Drop a mailbox file (mbox), a zip archive of messages or mailbox files, or one message. At most 512 MB; missivum rule rehearse takes more, and the mail stays where it is.'}
      </DropFile>
      <FormControlLabel
        control={<Switch checked={trials} onChange={(e) => setTrials(e.target.checked)} />}
        label="As if rules in trial were on"
      />
      <Trouble error={start.error ?? jobs.error} />
      {last && <Result job={last} />}
    </Page>
  )
}

function going(job: Job): boolean {
  return job.state === 'waiting' || job.state === 'running'
}

function Result({ job }: { job: Job }) {
  const queries = useQueryClient()
  const stop = useMutation({
    mutationFn: () => api.stopJob(job.id),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ['rehearsals'] }),
  })
  return (
    <Box component="section" aria-label="Result" aria-live="polite" sx={{ mt: 2 }}>
      <Typography variant="h2" sx={{ mb: 1 }}>
        {job.title}, {when(job.created)}
      </Typography>
      {going(job) && (
        <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', maxWidth: 560 }}>
          <LinearProgress
            variant="determinate"
            value={job.total ? (100 * job.done) / job.total : 0}
            sx={{ flex: 1 }}
            aria-label="Rehearsing"
          />
          <Typography>
            {grouped(job.done)} of {count(job.total, 'message', 'messages')}
          </Typography>
          <Button onClick={() => stop.mutate()}>Stop</Button>
        </Box>
      )}
      {job.state === 'stopped' && <Typography>Stopped.</Typography>}
      {job.state === 'failed' && <Trouble error={new Error(job.message)} />}
      {job.state === 'ready' && job.result && <Figures of={job.result as unknown as Rehearsal} />}
    </Box>
  )
}

function Figures({ of: r }: { of: Rehearsal }) {
  const grown = r.after - r.before
  return (
    <>
      <Typography sx={{ mb: 2 }}>
        {count(r.messages, 'message', 'messages')}:{' '}
        {outcomes
          .filter(([o]) => r.outcomes[o])
          .map(([o, says]) => `${grouped(r.outcomes[o] ?? 0)} ${says}`)
          .join(', ')}
        . {r.unsure > 0 && `In ${grouped(r.unsure)} the place was not certain. `}
        {r.failed > 0 && `${grouped(r.failed)} cannot be changed. `}
        {grown > 0 &&
          `Stamped mail grows by ${grouped(Math.round(grown / 1000))} kB in all (${Math.round((100 * grown) / r.before)} %), one message by ${grouped(Math.round(r.most / 1000))} kB at most.`}
      </Typography>
      <Box sx={{ display: 'grid', gridTemplateColumns: { xs: '1fr', md: '1fr 1fr' }, gap: 3 }}>
        <Counts title="Stamped with" list={r.signatures} />
        <Counts title="Rule that applied" list={r.rules} />
        <Counts title="Left alone because" list={r.left} />
        <Counts title="Quotation" list={r.shapes} />
      </Box>
      {r.look.length > 0 && (
        <Box sx={{ mt: 3 }}>
          <Typography variant="h2" sx={{ mb: 1 }}>
            Deserve a look
          </Typography>
          <Table size="small" aria-label="Messages that deserve a look">
            <TableBody>
              {r.look.map((l, i) => (
                <TableRow key={i}>
                  <TableCell sx={{ whiteSpace: 'nowrap' }}>{l.where}</TableCell>
                  <TableCell>{l.why}</TableCell>
                </TableRow>
              ))}
            </TableBody>
          </Table>
          {r.more > 0 && <Typography>and {grouped(r.more)} more</Typography>}
        </Box>
      )}
    </>
  )
}

function Counts({ title, list }: { title: string; list: { what: string; count: number }[] }) {
  if (list.length === 0) return null
  return (
    <Box>
      <Typography sx={{ fontWeight: 600 }}>{title}</Typography>
      <Table size="small" aria-label={title}>
        <TableBody>
          {list.map((c) => (
            <TableRow key={c.what}>
              <TableCell align="right" sx={{ width: 80, fontVariantNumeric: 'tabular-nums' }}>
                {grouped(c.count)}
              </TableCell>
              <TableCell>{c.what}</TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </Box>
  )
}
