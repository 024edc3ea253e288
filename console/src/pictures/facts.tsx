import Box from '@mui/material/Box'
import Typography from '@mui/material/Typography'
import type { MadePicture, PictureFacts, Sight } from '../api/api'
import { grouped, Warnings } from '../pages/parts'

/** A file's weight, to a tenth of a kilobyte below ten. */
export function weight(bytes: number): string {
  if (bytes === 0) return '0 kB'
  return bytes < 10 * 1024 ? `${(bytes / 1024).toFixed(1)} kB` : `${grouped(Math.round(bytes / 1024))} kB`
}

/** What a picture is, in a line. */
export function inShort(f: PictureFacts): string {
  return `${f.format.toUpperCase()}, ${grouped(f.width)} × ${grouped(f.height)} px, ${weight(f.bytes)}`
}

/** The squares behind what can be seen through. */
export const checkered = {
  backgroundColor: '#ffffff',
  backgroundImage:
    'linear-gradient(45deg, #d9d2c6 25%, transparent 25%, transparent 75%, #d9d2c6 75%), linear-gradient(45deg, #d9d2c6 25%, transparent 25%, transparent 75%, #d9d2c6 75%)',
  backgroundSize: '16px 16px',
  backgroundPosition: '0 0, 8px 8px',
}

/** What came of making a file: size, weight, difference, and what was done. */
export function Outcome({ made }: { made: MadePicture }) {
  return (
    <Box aria-label="What came of it" role="status">
      <Typography>
        {inShort(made.facts)}
        {made.width > 0 && (
          <>
            , shown at {made.width} × {made.height} px
          </>
        )}
        . Difference {made.difference.toFixed(4)}.
      </Typography>
      <Typography variant="body2" color="text.secondary">
        {weight(made.before)} before.
      </Typography>
      <Warnings of={made.warnings} />
      {made.notes.length > 0 && (
        <Box component="ul" aria-label="What was done" sx={{ m: 0, mt: 0.5, pl: 2.5, fontSize: '0.9rem' }}>
          {made.notes.map((n) => (
            <li key={n}>{n}</li>
          ))}
        </Box>
      )}
    </Box>
  )
}

/** A picture on each background, with the share of its edges that can be seen there. */
export function OnBackgrounds({ sights, src, label }: { sights: Sight[]; src: string; label: string }) {
  return (
    <Box sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap' }}>
      {sights.map((s) => (
        <Box key={s.background}>
          <Box sx={{ bgcolor: s.colour, p: 2, border: 1, borderColor: 'divider', minWidth: 120, textAlign: 'center' }}>
            <img src={src} alt={`${label} on ${s.background} background`} style={{ maxWidth: 220, maxHeight: 160 }} />
          </Box>
          <Typography variant="body2" sx={{ color: s.vanishes ? 'error.main' : 'success.main', fontWeight: 580 }}>
            <span aria-hidden="true">{s.vanishes ? '✕ ' : '✓ '}</span>
            {s.vanishes ? 'vanishes' : 'seen'} on {s.background}: {Math.round(100 * s.seen)} %
          </Typography>
        </Box>
      ))}
    </Box>
  )
}
