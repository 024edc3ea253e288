import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Typography from '@mui/material/Typography'
import type { Run, RunChange } from '../api/api'
import { count, grouped } from '../pages/parts'

/** What a run does, in numbers, why it is held, and what was skipped. */
export function RunFacts({ run }: { run: Run }) {
  return (
    <>
      <Typography>
        {count(run.read, 'person', 'people')} read: <b>{grouped(run.new)}</b> new,{' '}
        {run.joined > 0 && `${grouped(run.joined)} joined to who is there, `} <b>{grouped(run.changed)}</b> changed,{' '}
        <b>{grouped(run.gone)}</b> gone{run.back > 0 ? `, ${grouped(run.back)} back` : ''}, {grouped(run.unchanged)}{' '}
        unchanged.
      </Typography>
      {run.holds.length > 0 && (
        <Alert severity={run.state === 'held' ? 'error' : 'info'} variant="outlined">
          {run.state === 'held' ? 'This plan is held:' : 'This plan was held:'}
          <Box component="ul" sx={{ m: 0, pl: 2.5 }}>
            {run.holds.map((why) => (
              <li key={why}>{why}</li>
            ))}
          </Box>
        </Alert>
      )}
      {run.notes.map((note) => (
        <Alert key={note} severity="info" variant="outlined">
          {note}
        </Alert>
      ))}
      {run.skipped > 0 && (
        <Alert severity="warning" variant="outlined">
          {count(run.skipped, 'row is', 'rows are')} skipped:
          <Box component="ul" sx={{ m: 0, pl: 2.5, maxHeight: 200, overflow: 'auto' }}>
            {run.skips.map((s) => (
              <li key={`${s.row} ${s.message}`}>
                row {s.row}: {s.message}
              </li>
            ))}
          </Box>
        </Alert>
      )}
    </>
  )
}

/** Changes, person by person. */
export function ChangeList({ changes, height = 260 }: { changes: RunChange[]; height?: number | string }) {
  return (
    <Box
      component="ul"
      aria-label="Changes"
      sx={{
        listStyle: 'none',
        m: 0,
        p: 0,
        maxHeight: height,
        overflow: 'auto',
        borderTop: 1,
        borderBottom: 1,
        borderColor: 'divider',
      }}
    >
      {changes.map((c, i) => (
        <Box component="li" key={`${i} ${c.mail}`} sx={{ py: 0.6, borderBottom: 1, borderColor: 'divider' }}>
          <b>{c.kind}</b> {c.mail}
          {c.kind === 'new' || c.kind === 'joined' ? (
            <Typography variant="body2" color="text.secondary" sx={{ pl: 2 }}>
              {c.fields.map((f) => `${f.field}: ${f.after}`).join(' · ')}
            </Typography>
          ) : (
            c.fields.map((f) => (
              <Typography key={f.field} variant="body2" sx={{ pl: 2 }}>
                {f.field}: <s>{f.before || 'blank'}</s> → {f.after || 'blank'}
              </Typography>
            ))
          )}
        </Box>
      ))}
    </Box>
  )
}
