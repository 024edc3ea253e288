import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import type { Look } from '../api/api'
import { Trouble } from '../pages/parts'
import { LookFrame, type Bytes } from './LookFrame'
import { Pane } from './Panes'
import type { View } from './questions'

const zooms = [75, 100, 125, 150, 200] // in percent
const toggle = { '&[aria-pressed=true]': { bgcolor: 'action.selected' } }

interface Props {
  look?: Look
  error: unknown
  client: string
  view: View
  onView: (view: View) => void
  /** Where the editor's cursor is, in bytes. */
  cursor?: number
  onPick: (place: Bytes) => void
  onClose: () => void
}

/** The signature as written, or as a client shows it. */
export function LookPane({ look, error, client, view, onView, cursor, onPick, onClose }: Props) {
  const [zoom, setZoom] = useState(100)
  return (
    <Pane
      label="Look"
      onClose={onClose}
      head={
        <>
          <Typography
            noWrap
            sx={{ px: 1.5, fontWeight: 600, minWidth: 0 }}
            title={client ? `As ${client} shows it` : undefined}
          >
            {client ? `As ${client}` : 'Look, as written'}
            {look && look.width > 0 && (
              <Box component="span" sx={{ fontWeight: 400, color: 'text.secondary' }}>
                {' '}
                at {look.width} px
              </Box>
            )}
          </Typography>
          <Box sx={{ ml: 'auto', display: 'flex', whiteSpace: 'nowrap', alignItems: 'center' }}>
            {client && (
              <>
                <Button
                  size="small"
                  color="inherit"
                  aria-pressed={view.dark}
                  onClick={() => onView({ ...view, dark: !view.dark })}
                  sx={toggle}
                >
                  Dark mode
                </Button>
                <Button
                  size="small"
                  color="inherit"
                  aria-pressed={view.blocked}
                  onClick={() => onView({ ...view, blocked: !view.blocked })}
                  sx={toggle}
                >
                  Pictures blocked
                </Button>
              </>
            )}
            <TextField
              select
              variant="standard"
              size="small"
              value={zoom}
              onChange={(e) => setZoom(Number(e.target.value))}
              slotProps={{
                input: { disableUnderline: true, sx: { fontSize: 13 } },
                htmlInput: { 'aria-label': 'Zoom' },
              }}
              sx={{ ml: 1, width: 68 }}
            >
              {zooms.map((z) => (
                <MenuItem key={z} value={z}>{`${z} %`}</MenuItem>
              ))}
            </TextField>
          </Box>
        </>
      }
    >
      {error ? (
        <Box sx={{ p: 1.5 }}>
          <Trouble error={error} />
        </Box>
      ) : (
        look && (
          <LookFrame
            look={look}
            title={client ? `As ${client} shows it` : 'As written'}
            zoom={zoom}
            cursor={cursor}
            onPick={onPick}
          />
        )
      )}
    </Pane>
  )
}
