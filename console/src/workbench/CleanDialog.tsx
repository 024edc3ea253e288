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
import { CleanFacts } from './CleanFacts'

/** What cleaning would change, before it does. */
export function CleanDialog({
  source,
  onTake,
  onClose,
}: {
  source: string
  onTake: (source: string) => void
  onClose: () => void
}) {
  const [tracking, setTracking] = useState(false)
  const [joinText, setJoinText] = useState(false)
  const cleaned = useQuery({
    queryKey: ['clean', source, tracking, joinText],
    queryFn: () => api.clean({ source, tracking, joinText }),
    placeholderData: keepPreviousData,
    gcTime: 0,
  })
  return (
    <Dialog open onClose={onClose} maxWidth="lg" fullWidth aria-labelledby="clean-title">
      <DialogTitle id="clean-title">Clean the source</DialogTitle>
      <DialogContent>
        <Typography color="text.secondary">
          Removes what word processors and generators leave behind and indents the source. The look stays.
        </Typography>
        <FormControlLabel
          control={<Checkbox checked={tracking} onChange={(e) => setTracking(e.target.checked)} />}
          label="Remove link parameters that only count readers"
        />
        <FormControlLabel
          control={<Checkbox checked={joinText} onChange={(e) => setJoinText(e.target.checked)} />}
          label="Remove needless tags between letters too; letters may move by a part of a pixel"
        />
        <Trouble error={cleaned.error} />
        {cleaned.data && <SideBySide before={source} after={cleaned.data.source} label="Source" />}
        {cleaned.data && <CleanFacts result={cleaned.data} />}
      </DialogContent>
      <DialogActions>
        <Button onClick={onClose}>Leave it as it is</Button>
        <Button
          variant="contained"
          disabled={!cleaned.data}
          onClick={() => cleaned.data && onTake(cleaned.data.source)}
        >
          Take the cleaned source
        </Button>
      </DialogActions>
    </Dialog>
  )
}
