import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import FormControlLabel from '@mui/material/FormControlLabel'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import type { Finding, Fixed } from '../api/api'
import { count, Trouble } from '../pages/parts'
import { checkered } from '../pictures/facts'
import { useFix } from './questions'
import { SideBySide } from './SideBySide'
import type { Revision } from './state'

/** What fixes would change, before they do: one finding's, or all that are safe. */
export function FixDialog({
  template,
  revision,
  finding,
  onTake,
  onClose,
}: {
  template: string
  revision: Revision
  finding?: Finding
  onTake: (fixed: Fixed) => void
  onClose: () => void
}) {
  const [except, setExcept] = useState<string[]>([])
  const { draft } = revision
  const fixed = useFix(template, revision, finding ? { checks: [finding.check], at: finding.offset } : { except })
  const r = fixed.data
  const checks = [...new Set([...(r?.done ?? []).map((d) => d.check), ...except])].sort()
  return (
    <Dialog open onClose={onClose} maxWidth="lg" fullWidth aria-labelledby="fix-title">
      <DialogTitle id="fix-title">{finding ? `Fix line ${finding.line}` : 'Fix all that is safe'}</DialogTitle>
      <DialogContent>
        <Trouble error={fixed.error} />
        {!r && !fixed.error && <Typography>Making the fixes and checking the result ...</Typography>}
        {r && r.done.length === 0 && <Typography>Nothing can be fixed here.</Typography>}
        {!finding && checks.length > 1 && (
          <Box
            role="group"
            aria-label="Checks to fix"
            sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 1.5, mb: 1 }}
          >
            {checks.map((id) => (
              <FormControlLabel
                key={id}
                label={id}
                slotProps={{ typography: { variant: 'body2' } }}
                control={
                  <Checkbox
                    size="small"
                    sx={{ p: 0.4 }}
                    checked={!except.includes(id)}
                    onChange={(e) => setExcept(e.target.checked ? except.filter((x) => x !== id) : [...except, id])}
                  />
                }
              />
            ))}
          </Box>
        )}
        {r && r.source !== draft.source && <SideBySide before={draft.source} after={r.source} label="Source" />}
        {r && r.settings !== draft.settings && (
          <SideBySide before={draft.settings} after={r.settings} label="Settings" />
        )}
        {r && Object.keys(r.pictures).length > 0 && (
          <Box
            component="ul"
            aria-label="Pictures that are made"
            sx={{ listStyle: 'none', p: 0, my: 1.5, display: 'flex', flexWrap: 'wrap', gap: 2 }}
          >
            {Object.entries(r.pictures).map(([file, data]) => (
              <li key={file}>
                <Box sx={{ ...checkered, p: 1, display: 'inline-block', border: 1, borderColor: 'divider' }}>
                  <img
                    src={`data:image/${file.split('.').pop()};base64,${data}`}
                    alt={file}
                    style={{ maxHeight: 90, maxWidth: 240, display: 'block' }}
                  />
                </Box>
                <Typography variant="body2">{file}</Typography>
              </li>
            ))}
          </Box>
        )}
        {r && r.done.length > 0 && (
          <Box component="ul" aria-label="Fixes" sx={{ pl: 2.5, my: 1.5 }}>
            {r.done.map((d, i) => (
              <li key={i}>
                Line {d.line}, {d.check}: {d.title}.{d.costs && ` This costs something: ${d.costs}.`}
              </li>
            ))}
          </Box>
        )}
        {r && r.refused.length > 0 && (
          <Box component="ul" aria-label="Fixes that are not made" sx={{ pl: 2.5, my: 1.5, color: 'text.secondary' }}>
            {r.refused.map((d, i) => (
              <li key={i}>
                Line {d.line}, {d.check} stays: {d.why}
              </li>
            ))}
          </Box>
        )}
        {r && (
          <Typography color="text.secondary">
            {count(r.findings.length, 'finding is', 'findings are')} left then. Nothing is saved yet
            {Object.keys(r.pictures).length > 0 && ': the pictures are saved with the next version'}; Undo in the source
            takes it back.
          </Typography>
        )}
      </DialogContent>
      <DialogActions>
        <Button onClick={onClose}>Leave it as it is</Button>
        <Button
          variant="contained"
          disabled={!r || r.done.length === 0 || fixed.isPlaceholderData}
          onClick={() => r && onTake(r)}
        >
          Take the fixed source
        </Button>
      </DialogActions>
    </Dialog>
  )
}
