import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import LinearProgress from '@mui/material/LinearProgress'
import Link from '@mui/material/Link'
import MenuItem from '@mui/material/MenuItem'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as RouterLink, useNavigate, useParams } from 'react-router'
import { Act, Lacking, useMay } from '../access/session'
import { api, type Release, type SendWave } from '../api/api'
import { count, grouped, Page, PageHead, Section, Severity, SourceBox, Trouble, when } from '../pages/parts'
import { ActingField, useActing } from './acting'
import { StateMark } from './states'
import { WaveChart } from './WaveChart'

/** One release: what it freezes, what the checks found, what changed, its waves, and what can be done with it. */
export function ReleasePage() {
  const id = Number(useParams().id)
  const release = useQuery({
    queryKey: ['release', id],
    queryFn: () => api.release(id),
    refetchInterval: (q) => (q.state.data?.state === 'draft' ? 500 : q.state.data?.state === 'out' ? 10_000 : false),
  })
  const r = release.data
  return (
    <Page>
      <PageHead title={r ? `Release ${id}: ${r.title}` : `Release ${id}`}>{r?.note}</PageHead>
      <Trouble error={release.error} />
      {r && (
        <>
          <Typography sx={{ mb: 2 }}>
            <StateMark release={r} />. Made by {r.madeBy}, {when(r.made)}
            {r.approvedBy && `; approved by ${r.approvedBy}`}
            {r.approval && `: “${r.approval}”`}
            {r.withdrawnBy && `; withdrawn by ${r.withdrawnBy}`}. People are{' '}
            {r.frozenPeople ? 'frozen' : 'live: a change in the directory reaches desks by itself'}. Files on desks are
            called {r.base}.{' '}
            {r.rules > 0 ? `It holds version ${r.rules} of the mail rules.` : 'It holds no mail rules.'}
          </Typography>
          {r.state === 'draft' && <Checking release={r} />}
          <Actions release={r} />
          {r.waves.length > 0 && <Waves release={r} />}
          {r.examined.length > 0 && <Found release={r} />}
          {r.state !== 'draft' && <Differences release={r} />}
          <Typography variant="body2" color="text.secondary" sx={{ mt: 4, overflowWrap: 'anywhere' }}>
            Digest of everything that is frozen: {r.digest}
          </Typography>
        </>
      )}
    </Page>
  )
}

function Checking({ release: r }: { release: Release }) {
  if (r.job.state === 'failed') return <Trouble error={new Error(r.job.message)} />
  return (
    <Box sx={{ mb: 3, maxWidth: 480 }}>
      <LinearProgress
        variant="determinate"
        value={r.job.total ? (100 * r.job.done) / r.job.total : 0}
        aria-label="Checking the release"
      />
      <Typography variant="body2">
        Checking for everybody it concerns, and drawing the contact sheets: {r.job.done} of {r.job.total} steps
      </Typography>
    </Box>
  )
}

/** What can be done with a release as it is. */
function Actions({ release: r }: { release: Release }) {
  const queries = useQueryClient()
  const navigate = useNavigate()
  const [as, setAs] = useActing()
  const [says, setSays] = useState('')
  const [waves, setWaves] = useState<SendWave[]>([{ audience: '', share: 0 }])
  const [sure, setSure] = useState(false)
  const act = useMutation({
    mutationFn: async (step: 'approve' | 'send' | 'pause' | 'resume' | 'widen' | 'withdraw' | 'delete') => {
      switch (step) {
        case 'approve':
          return api.approveRelease(r.id, says, as)
        case 'send':
          return api.sendRelease(r.id, waves, as)
        case 'pause':
          return api.pauseRelease(r.id, as)
        case 'resume':
          return api.resumeRelease(r.id, as)
        case 'widen':
          return api.widenRelease(r.id, as)
        case 'withdraw':
          return api.withdrawRelease(r.id, as)
        case 'delete':
          await api.removeRelease(r.id, as)
          return undefined
      }
    },
    onSuccess: (made) => {
      void queries.invalidateQueries()
      setSure(false)
      if (!made) void navigate('/releases')
    },
  })
  const button = (step: Parameters<typeof act.mutate>[0], label: string, main?: boolean) => (
    <Act
      needs={step === 'approve' ? 'approve' : 'send'}
      variant={main ? 'contained' : 'outlined'}
      disabled={act.isPending}
      onClick={() => act.mutate(step)}
    >
      {label}
    </Act>
  )
  const mayApprove = useMay('approve')
  if (r.state === 'withdrawn') return <Trouble error={act.error} />
  return (
    <Box sx={{ mb: 2 }}>
      {r.state === 'checked' && <Lacking permission="approve">Approving</Lacking>}
      {r.state === 'approved' && <Lacking permission="send">Sending it out</Lacking>}
      {r.state === 'approved' && <WaveEditor waves={waves} onChange={setWaves} />}
      <Box sx={{ display: 'flex', gap: 1.5, alignItems: 'center', flexWrap: 'wrap' }}>
        <ActingField value={as} onChange={setAs} />
        {r.state === 'checked' && mayApprove && (
          <>
            <TextField
              size="small"
              label={r.fails ? 'Why it may go out though something breaks' : 'What you say to it'}
              value={says}
              sx={{ minWidth: 340 }}
              onChange={(e) => setSays(e.target.value)}
            />
            {button('approve', 'Approve', true)}
          </>
        )}
        {r.state === 'approved' && button('send', 'Send it out', true)}
        {r.state === 'out' && (
          <>
            {r.paused ? button('resume', 'Let waves begin again') : button('pause', 'Pause')}
            {r.waves.some((w) => !w.opened) && button('widen', 'Begin the next wave now')}
            {sure ? (
              <>
                <Typography>Desks go back to the release before, or to what they had.</Typography>
                {button('withdraw', 'Withdraw it', true)}
                <Button onClick={() => setSure(false)}>Keep it out</Button>
              </>
            ) : (
              <Act needs="send" color="error" onClick={() => setSure(true)}>
                Withdraw
              </Act>
            )}
          </>
        )}
        {r.state !== 'out' && (
          <Act needs="releases" color="inherit" disabled={act.isPending} onClick={() => act.mutate('delete')}>
            Delete
          </Act>
        )}
      </Box>
      <Trouble error={act.error} />
    </Box>
  )
}

/** Who gets a release after whom. */
function WaveEditor({ waves, onChange }: { waves: SendWave[]; onChange: (waves: SendWave[]) => void }) {
  const audiences = useQuery({ queryKey: ['audiences'], queryFn: api.audiences })
  const set = (i: number, change: Partial<SendWave>) =>
    onChange(waves.map((w, at) => (at === i ? { ...w, ...change } : w)))
  return (
    <Box component="fieldset" sx={{ border: 0, p: 0, m: 0, mb: 2 }}>
      <Typography component="legend" sx={{ fontWeight: 600, mb: 1 }}>
        Waves
      </Typography>
      {waves.map((w, i) => (
        <Box key={i} sx={{ display: 'flex', gap: 1.5, mb: 1.5, alignItems: 'center', flexWrap: 'wrap' }}>
          <TextField
            select
            size="small"
            label={`Audience of wave ${i + 1}`}
            value={w.audience}
            sx={{ minWidth: 220 }}
            slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
            onChange={(e) => set(i, { audience: e.target.value })}
          >
            <MenuItem value="">everybody</MenuItem>
            {(audiences.data ?? []).map((a) => (
              <MenuItem key={a.name} value={a.name}>
                {a.title || a.name} ({grouped(a.people)})
              </MenuItem>
            ))}
          </TextField>
          <TextField
            size="small"
            type="datetime-local"
            label="Not before"
            slotProps={{ inputLabel: { shrink: true } }}
            onChange={(e) => set(i, { start: e.target.value ? new Date(e.target.value).toISOString() : undefined })}
          />
          {i < waves.length - 1 && (
            <TextField
              size="small"
              type="number"
              label="Percent right for the next"
              value={w.share}
              sx={{ width: 190 }}
              slotProps={{ htmlInput: { min: 0, max: 100 } }}
              onChange={(e) => set(i, { share: Number(e.target.value) })}
            />
          )}
          {waves.length > 1 && (
            <Button onClick={() => onChange(waves.filter((_, at) => at !== i))} aria-label={`Remove wave ${i + 1}`}>
              ✕
            </Button>
          )}
        </Box>
      ))}
      <Button
        size="small"
        onClick={() =>
          onChange([
            ...waves.map((w, i) => (i === waves.length - 1 && w.share === 0 ? { ...w, share: 80 } : w)),
            { audience: '', share: 0 },
          ])
        }
      >
        Add a wave
      </Button>
    </Box>
  )
}

function Waves({ release: r }: { release: Release }) {
  return (
    <Section title="Waves">
      <Table size="small" aria-label="Waves">
        <TableHead>
          <TableRow>
            {['Wave', 'Audience', 'State'].map((h) => (
              <TableCell key={h}>{h}</TableCell>
            ))}
            {['People', 'Right', 'Wrong', 'Silent', 'For the next'].map((h) => (
              <TableCell key={h} align="right">
                {h}
              </TableCell>
            ))}
            <TableCell>Over time</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {r.waves.map((w) => (
            <TableRow key={w.number}>
              <TableCell>
                <Link component={RouterLink} to={`/desks?wave=${w.number}`}>
                  {w.number}
                </Link>
              </TableCell>
              <TableCell>{w.audience || 'everybody'}</TableCell>
              <TableCell>
                {w.opened ? `begun ${when(w.opened)}` : w.start ? `not before ${when(w.start)}` : 'waits'}
              </TableCell>
              {[w.people, w.good, w.wrong, w.silent].map((n, i) => (
                <TableCell key={i} align="right">
                  {r.state === 'out' ? grouped(n) : ''}
                </TableCell>
              ))}
              <TableCell align="right">{w.number < r.waves.length ? `${w.share} %` : ''}</TableCell>
              <TableCell>{w.opened && <WaveChart release={r.id} wave={w} />}</TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </Section>
  )
}

function Found({ release: r }: { release: Release }) {
  return (
    <Section title="What the checks found">
      <Table size="small" aria-label="What the checks found">
        <TableHead>
          <TableRow>
            {['Template', 'Verdict'].map((h) => (
              <TableCell key={h}>{h}</TableCell>
            ))}
            {['People', 'Break', 'Degrade', 'Over a limit'].map((h) => (
              <TableCell key={h} align="right">
                {h}
              </TableCell>
            ))}
            <TableCell>Contact sheet</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {r.examined.map((e) => (
            <TableRow key={e.template}>
              <TableCell>
                {e.template}, version {r.templates.find((t) => t.name === e.template)?.number}
              </TableCell>
              <TableCell>
                <Severity of={e.fails ? 'breaks' : 'fine'}>{e.verdict}</Severity>
              </TableCell>
              {[e.people, e.breaks, e.degrades, e.overLimit].map((n, i) => (
                <TableCell key={i} align="right">
                  {grouped(n)}
                </TableCell>
              ))}
              <TableCell>
                <Link href={`/api/v1/releases/${r.id}/sheets/${e.template}`} target="_blank" rel="noreferrer">
                  Open the sheet
                </Link>
                {r.before > 0 && (
                  <>
                    {', '}
                    <Link href={`/api/v1/releases/${r.before}/sheets/${e.template}`} target="_blank" rel="noreferrer">
                      that of release {r.before}
                    </Link>
                  </>
                )}
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </Section>
  )
}

function Differences({ release: r }: { release: Release }) {
  return (
    <Section title={r.before ? `What is not as in release ${r.before}` : 'What changed'}>
      {r.differences.length === 0 && <Typography>Nothing is different.</Typography>}
      <Box component="ul" sx={{ m: 0, pl: 2.5 }}>
        {r.differences.map((d, i) => (
          <Box component="li" key={i} sx={{ mb: 0.75 }}>
            <b>
              {d.kind}
              {d.name && ` ${d.name}`}
            </b>
            : {d.says}
            {d.detail && (
              <Box component="details" sx={{ mt: 0.5 }}>
                <summary>Show the lines</summary>
                <SourceBox label={`Lines of ${d.kind} ${d.name}`} height={320}>
                  {d.detail}
                </SourceBox>
              </Box>
            )}
          </Box>
        ))}
      </Box>
      {r.differences.length > 0 && (
        <Typography variant="body2" color="text.secondary" sx={{ mt: 1 }}>
          {count(r.differences.length, 'difference', 'differences')}.
        </Typography>
      )}
    </Section>
  )
}
