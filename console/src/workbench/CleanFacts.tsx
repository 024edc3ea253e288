import Box from '@mui/material/Box'
import Typography from '@mui/material/Typography'
import type { CleanResult } from '../api/api'
import { grouped } from '../pages/parts'

/** What was done, and what was not dared. */
export function CleanFacts({ result }: { result: CleanResult }) {
  return (
    <Box sx={{ mt: 1.5 }}>
      <Typography>
        {grouped(result.before)} bytes before, {grouped(result.after)} after
        {result.changes.length > 0 && `: ${result.changes.map((c) => `${c.what} (${c.count})`).join(', ')}`}.
      </Typography>
      {result.left.length > 0 && (
        <Box component="ul" aria-label="Left alone" sx={{ pl: 2.5, my: 1 }}>
          {result.left.map((l) => (
            <li key={l.offset + l.what}>
              Line {l.line}, {l.what}: {l.why}
            </li>
          ))}
        </Box>
      )}
    </Box>
  )
}
