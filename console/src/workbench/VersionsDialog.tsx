import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { api, type TemplateDetail } from '../api/api'
import { Trouble, when } from '../pages/parts'

/** All versions of a template; an older one can be taken into the editor, and nothing is saved by that. */
export function VersionsDialog({ name, onTake, onClose }: { name: string; onTake: (version: TemplateDetail) => void; onClose: () => void }) {
  const versions = useQuery({ queryKey: ['versions', name], queryFn: () => api.versions(name), gcTime: 0 })
  const take = useMutation({ mutationFn: (number: number) => api.version(name, number), onSuccess: onTake })
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth aria-labelledby="versions-title">
      <DialogTitle id="versions-title">Versions</DialogTitle>
      <DialogContent>
        <Trouble error={versions.error ?? take.error} />
        <Box component="ol" aria-label="Versions" sx={{ listStyle: 'none', m: 0, p: 0 }}>
          {(versions.data ?? []).map((v) => (
            <Box component="li" key={v.number} sx={{ display: 'flex', alignItems: 'center', gap: 2, py: 0.8, borderBottom: 1, borderColor: 'divider' }}>
              <Box sx={{ flex: 1 }}>
                Version {v.number}
                {v.note && `: ${v.note}`}
                <Typography variant="body2" color="text.secondary">{when(v.saved)} · {v.version}</Typography>
              </Box>
              <Button size="small" onClick={() => take.mutate(v.number)} disabled={take.isPending}>Take into the editor</Button>
            </Box>
          ))}
        </Box>
        <Typography variant="body2" color="text.secondary" sx={{ mt: 1.5 }}>
          Taking a version replaces source and settings in the editor. Pictures stay those of the latest version, and nothing is saved until you save.
        </Typography>
      </DialogContent>
      <DialogActions>
        <Button onClick={onClose}>Close</Button>
      </DialogActions>
    </Dialog>
  )
}
