import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import MenuItem from '@mui/material/MenuItem'
import Popover from '@mui/material/Popover'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useEffect, useState, type ReactNode } from 'react'
import { useBlocker } from 'react-router'
import { Act, useMay } from '../access/session'
import { api, type Report } from '../api/api'
import { dirty, forget, type State } from './state'

interface Props {
  state: State
  verdict?: Report['verdict']
  saving: boolean
  onNote: (note: string) => void
  onSave: () => void
  onVersions: () => void
  children: ReactNode
}

/** What the template is and where it stands, what it is looked at with, and what saves it. */
export function Toolbar({ state, verdict, saving, onNote, onSave, onVersions, children }: Props) {
  const unsaved = dirty(state)
  const may = useMay('templates')
  return (
    <Box
      sx={{
        display: 'flex',
        alignItems: 'center',
        gap: 1,
        px: 2,
        py: 1,
        flexWrap: 'wrap',
        '& > button': { minWidth: 0 },
        borderBottom: 1,
        borderColor: 'divider',
      }}
    >
      <Box sx={{ mr: 'auto' }}>
        <Typography variant="h2" component="h1">
          {state.saved.title}
        </Typography>
        <Typography variant="body2" color="text.secondary" aria-live="polite">
          Version {state.saved.number}
          {unsaved ? ', with changes not saved' : ', saved'}
          {!may && '. Saving needs the role author'}
          {verdict && (
            <Box component="span" title={`${verdict.says} Safe: nothing breaks there, and no limit is exceeded.`}>
              . {verdict.short}
            </Box>
          )}
        </Typography>
      </Box>
      {children}
      <Button color="inherit" onClick={onVersions}>
        Versions
      </Button>
      {may && <NoteButton note={state.note} onNote={onNote} />}
      <Act needs="templates" variant="contained" disabled={!unsaved || saving} onClick={onSave} title="Ctrl+S">
        Save a version
      </Act>
      <LeaveGuard unsaved={unsaved} name={state.saved.name} number={state.saved.number} />
    </Box>
  )
}

function NoteButton({ note, onNote }: { note: string; onNote: (note: string) => void }) {
  const [anchor, setAnchor] = useState<HTMLElement | null>(null)
  return (
    <>
      <Button
        color="inherit"
        onClick={(e) => setAnchor(e.currentTarget)}
        title="What changed, kept with the next version"
      >
        {note ? 'Note ✓' : 'Note'}
      </Button>
      <Popover
        open={anchor !== null}
        anchorEl={anchor}
        onClose={() => setAnchor(null)}
        anchorOrigin={{ vertical: 'bottom', horizontal: 'right' }}
        transformOrigin={{ vertical: 'top', horizontal: 'right' }}
        slotProps={{ paper: { role: 'dialog', 'aria-label': 'Note' } }}
      >
        <Box
          component="form"
          sx={{ p: 2, display: 'flex', flexDirection: 'column', gap: 1.5, width: 300 }}
          onSubmit={(e) => {
            e.preventDefault()
            setAnchor(null)
          }}
        >
          <TextField
            size="small"
            label="What changed"
            value={note}
            onChange={(e) => onNote(e.target.value)}
            autoFocus
          />
          <Typography variant="body2" color="text.secondary">
            It is kept with the next version that you save.
          </Typography>
          <Button type="submit" sx={{ alignSelf: 'flex-end' }}>
            Done
          </Button>
        </Box>
      </Popover>
    </>
  )
}

/** Asks before unsaved work is left, within the console and out of it. */
function LeaveGuard({ unsaved, name, number }: { unsaved: boolean; name: string; number: number }) {
  const blocker = useBlocker(unsaved)
  useEffect(() => {
    if (!unsaved) return
    const ask = (e: BeforeUnloadEvent) => e.preventDefault()
    window.addEventListener('beforeunload', ask)
    return () => window.removeEventListener('beforeunload', ask)
  }, [unsaved])
  if (blocker.state !== 'blocked') return null
  return (
    <Dialog open onClose={() => blocker.reset()} aria-labelledby="leave">
      <DialogTitle id="leave">Leave without saving?</DialogTitle>
      <DialogContent>What you changed since version {number} is lost when you leave.</DialogContent>
      <DialogActions>
        <Button
          onClick={() => {
            forget(name)
            blocker.proceed()
          }}
          color="error"
        >
          Leave and lose it
        </Button>
        <Button onClick={() => blocker.reset()} variant="contained" autoFocus>
          Stay
        </Button>
      </DialogActions>
    </Dialog>
  )
}

export function ClientPicker({ value, onChange }: { value: string; onChange: (id: string) => void }) {
  const clients = useQuery({ queryKey: ['clients'], queryFn: api.clients, staleTime: Infinity })
  return (
    <TextField
      select
      size="small"
      label="Shown as"
      value={clients.data ? value : ''}
      onChange={(e) => onChange(e.target.value)}
      sx={{ width: 170 }}
      slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
    >
      <MenuItem value="">As written</MenuItem>
      {(clients.data ?? []).map((c) => (
        <MenuItem key={c.id} value={c.id}>
          {c.id}
        </MenuItem>
      ))}
    </TextField>
  )
}
