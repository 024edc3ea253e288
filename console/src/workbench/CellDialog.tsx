import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import Typography from '@mui/material/Typography'
import type { MapCell, MapRow } from '../api/api'
import { Trouble } from '../pages/parts'
import { LookFrame } from './LookFrame'
import { useLook, type Sitter } from './questions'
import type { Revision } from './state'

interface Props {
  template: string
  revision: Revision
  sitter: Sitter
  row: MapRow
  cell: MapCell
  /** Shows the place in the source, and the signature as the client does. */
  onTake: () => void
  onClose: () => void
}

/** One construct in one client: what becomes of it, in words and in pictures before and after. */
export function CellDialog({ template, revision, sitter, row, cell, onTake, onClose }: Props) {
  return (
    <Dialog open onClose={onClose} maxWidth="xl" fullWidth aria-labelledby="cell-title">
      <DialogTitle id="cell-title">{`${row.what}, line ${row.line}: ${cell.state} in ${sitter.client}`}</DialogTitle>
      <DialogContent>
        <Typography sx={{ mb: 1.5 }}>
          {[cell.says, cell.basis && `(${cell.basis})`].filter(Boolean).join(' ') || 'It stays as it is.'}
        </Typography>
        <Box sx={{ display: 'grid', gridTemplateColumns: { xs: '1fr', md: '1fr 1fr' }, gap: 2 }}>
          <Side
            title="Before: as written"
            template={template}
            revision={revision}
            sitter={{ ...sitter, client: '' }}
            at={row.element}
          />
          <Side
            title={`After: as ${sitter.client} shows it`}
            template={template}
            revision={revision}
            sitter={sitter}
            at={row.element}
          />
        </Box>
        <Typography variant="body2" color="text.secondary" sx={{ mt: 1 }}>
          The dotted outline is around the first element concerned. Where the client has dropped it, there is none.
        </Typography>
      </DialogContent>
      <DialogActions>
        <Button onClick={onClose}>Close</Button>
        <Button variant="contained" onClick={onTake}>
          Show it in the source
        </Button>
      </DialogActions>
    </Dialog>
  )
}

function Side({
  title,
  template,
  revision,
  sitter,
  at,
}: {
  title: string
  template: string
  revision: Revision
  sitter: Sitter
  at: number
}) {
  const look = useLook(template, revision, sitter)
  return (
    <Box component="section" aria-label={title} sx={{ minWidth: 0 }}>
      <Typography sx={{ fontWeight: 580, mb: 0.5 }}>{title}</Typography>
      <Trouble error={look.error} />
      <Box sx={{ height: 340, border: 1, borderColor: 'divider' }}>
        {look.data && <LookFrame look={look.data} title={title} element={at} />}
      </Box>
    </Box>
  )
}
