import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import type { Shrunk, ShrinkStep } from '../api/api'
import { count, grouped, Severity, Trouble } from '../pages/parts'
import { usePaused } from './paused'
import { useShrink } from './questions'
import type { Revision } from './state'

interface Props {
  template: string
  revision: Revision
  client: string
  onTake: (settings: string) => void
  onGo: (line: number) => void
  onClose: () => void
}

/** How the signature of the worst person gets below a client's limit, step by step, before anything is changed. */
export function ShrinkDialog({ template, revision, client, onTake, onGo, onClose }: Props) {
  const [target, setTarget] = useState('')
  const asked = usePaused(Number(target) || 0, 300)
  const shrunk = useShrink(template, revision, client, asked)
  const r = shrunk.data
  const taken = /^compact:\s*true/m.test(revision.draft.settings)
  return (
    <Dialog open onClose={onClose} maxWidth="md" fullWidth aria-labelledby="shrink-title">
      <DialogTitle id="shrink-title">{`Shrink for ${client}`}</DialogTitle>
      <DialogContent>
        <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', pt: 1, mb: 1.5 }}>
          <TextField
            size="small"
            label="Target, characters"
            type="number"
            value={target}
            placeholder={r ? String(r.target) : ''}
            onChange={(e) => setTarget(e.target.value)}
            sx={{ width: 170 }}
            slotProps={{ inputLabel: { shrink: true }, htmlInput: { min: 1 } }}
          />
          {r && (
            <Typography role="status" sx={{ flex: 1 }}>
              <Severity of={r.fits ? 'fine' : r.reached ? 'degrades' : 'breaks'}>{outcome(r)}</Severity>
            </Typography>
          )}
        </Box>
        <Trouble error={shrunk.error} />
        {!r && !shrunk.error && <Typography>Trying the steps, each for everybody ...</Typography>}
        {r && (
          <>
            <Typography>
              {`${grouped(r.before)} characters for the worst person, ${r.person || 'the same for everybody'}, in the variant ${r.variant}. ${count(r.over, 'person is', 'people are')} above ${grouped(r.target)}; with the steps ${r.still === 0 ? 'nobody is' : count(r.still, 'person is', 'people are')}.`}
            </Typography>
            <Steps label="Steps that keep the look" before={r.before} target={r.target} steps={r.steps} />
            {r.proposals.length > 0 && (
              <>
                <Steps
                  label="Proposals, which cost something"
                  before={r.after}
                  target={r.target}
                  steps={r.proposals}
                  onGo={onGo}
                />
                <Typography variant="body2" color="text.secondary">
                  Proposals are not made for you. Decide which you want, and change the source.
                </Typography>
              </>
            )}
            <Typography variant="body2" color="text.secondary" sx={{ mt: 1.5 }}>
              {taken
                ? 'template.yaml says compact: true already: the steps are taken in every form that is pasted.'
                : 'Taking the steps writes compact: true into template.yaml. Every form that is pasted then goes out shorter and looks the same; the source stays as it is. Nothing is saved yet.'}
            </Typography>
          </>
        )}
      </DialogContent>
      <DialogActions>
        <Button onClick={onClose}>Leave it as it is</Button>
        <Button
          variant="contained"
          disabled={!r || taken || r.after === r.before}
          onClick={() => r && onTake(r.settings)}
        >
          Take the steps
        </Button>
      </DialogActions>
    </Dialog>
  )
}

function outcome(r: Shrunk): string {
  if (!r.compact) return 'It fits as it is.'
  if (r.fits) return `It fits with the steps: ${grouped(r.after)} of ${grouped(r.target)} characters.`
  return r.reached
    ? 'It fits only with the proposals.'
    : 'It does not fit even with the proposals: a shorter variant is needed.'
}

/** What each step saves, with a bar of what is left after it and a mark at the target. */
function Steps({
  label,
  before,
  target,
  steps,
  onGo,
}: {
  label: string
  before: number
  target: number
  steps: ShrinkStep[]
  onGo?: (line: number) => void
}) {
  const most = Math.max(before, target)
  const line = onGo && steps.some((s) => s.line)
  return (
    <Box
      component="table"
      aria-label={label}
      sx={{
        borderCollapse: 'collapse',
        width: '100%',
        my: 1.5,
        '& th, & td': {
          borderBottom: 1,
          borderColor: 'divider',
          py: 0.6,
          pr: 1.5,
          textAlign: 'left',
          verticalAlign: 'top',
        },
        '& .number': { textAlign: 'right', whiteSpace: 'nowrap', fontVariantNumeric: 'tabular-nums' },
      }}
    >
      <thead>
        <tr>
          <th scope="col">{label}</th>
          <th scope="col" className="number">
            Saves
          </th>
          <th scope="col" className="number">
            Left
          </th>
          <Box component="th" scope="col" aria-label="Left, as a bar" sx={{ width: 150 }} />
          {line && <th scope="col">Place</th>}
        </tr>
      </thead>
      <tbody>
        {steps.map((s) => (
          <tr key={s.title}>
            <td>
              {s.title}
              {s.costs && <Typography variant="body2" color="text.secondary">{`Costs: ${s.costs}`}</Typography>}
            </td>
            <td className="number">{grouped(s.saved)}</td>
            <td className="number">{grouped(s.left)}</td>
            <td>
              <Box aria-hidden="true" sx={{ position: 'relative', height: 8, mt: 0.8, bgcolor: 'divider' }}>
                <Box
                  sx={{
                    height: '100%',
                    width: `${(100 * s.left) / most}%`,
                    bgcolor: s.left > target ? 'error.main' : 'secondary.main',
                  }}
                />
                <Box
                  sx={{
                    position: 'absolute',
                    top: -3,
                    bottom: -3,
                    left: `${(100 * target) / most}%`,
                    borderLeft: 2,
                    borderColor: 'text.primary',
                  }}
                />
              </Box>
            </td>
            {line && (
              <td>
                {s.line && <Button size="small" onClick={() => s.line && onGo(s.line)}>{`Line ${s.line}`}</Button>}
              </td>
            )}
          </tr>
        ))}
      </tbody>
    </Box>
  )
}
