import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import FormControlLabel from '@mui/material/FormControlLabel'
import Typography from '@mui/material/Typography'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api } from '../api/api'
import { Trouble } from '../pages/parts'
import { SideBySide } from './SideBySide'
import { TidyFacts } from './TidyFacts'

/** What tidying would change, before it does. */
export function TidyDialog({ source, onTake, onClose }: { source: string; onTake: (source: string) => void; onClose: () => void }) {
  const [tracking, setTracking] = useState(false)
  const [joinText, setJoinText] = useState(false)
  const tidied = useQuery({ queryKey: ['tidy', source, tracking, joinText], queryFn: () => api.tidy({ source, tracking, joinText }), placeholderData: keepPreviousData, gcTime: 0 })
  return (
    <Dialog open onClose={onClose} maxWidth="lg" fullWidth aria-labelledby="tidy-title">
      <DialogTitle id="tidy-title">Tidy the source</DialogTitle>
      <DialogContent>
        <Typography color="text.secondary">Leftovers of word processors and generators go and the source is indented; the look stays.</Typography>
        <FormControlLabel control={<Checkbox checked={tracking} onChange={(e) => setTracking(e.target.checked)} />} label="Drop parameters of links that only count readers" />
        <FormControlLabel control={<Checkbox checked={joinText} onChange={(e) => setJoinText(e.target.checked)} />} label="Take needless tags from between letters too; letters may move by a part of a pixel" />
        <Trouble error={tidied.error} />
        {tidied.data && <SideBySide before={source} after={tidied.data.source} label="Source" />}
        {tidied.data && <TidyFacts result={tidied.data} />}
      </DialogContent>
      <DialogActions>
        <Button onClick={onClose}>Leave it as it is</Button>
        <Button variant="contained" disabled={!tidied.data} onClick={() => tidied.data && onTake(tidied.data.source)}>Take the tidied source</Button>
      </DialogActions>
    </Dialog>
  )
}
