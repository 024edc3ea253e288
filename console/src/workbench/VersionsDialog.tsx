import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, type TemplateDetail } from '../api/api'
import { Trouble, when } from '../pages/parts'
import { LookFrame } from './LookFrame'
import { useLook, type Sitter } from './questions'
import { SideBySide } from './SideBySide'
import type { Revision } from './state'

interface Props {
  template: TemplateDetail
  revision: Revision
  sitter: Sitter
  onTake: (version: TemplateDetail) => void
  onClose: () => void
}

/** All versions of a template; each can be compared with the editor, and an older one can be taken back. */
export function VersionsDialog({ template, revision, sitter, onTake, onClose }: Props) {
  const name = template.name
  const versions = useQuery({ queryKey: ['versions', name], queryFn: () => api.versions(name), gcTime: 0 })
  const take = useMutation({ mutationFn: (number: number) => api.version(name, number), onSuccess: onTake })
  const [compared, setCompared] = useState<number>()
  return (
    <Dialog open onClose={onClose} maxWidth={compared ? 'xl' : 'sm'} fullWidth aria-labelledby="versions-title">
      <DialogTitle id="versions-title">Versions</DialogTitle>
      <DialogContent>
        <Trouble error={versions.error ?? take.error} />
        <Box
          component="ol"
          aria-label="Versions"
          tabIndex={0}
          sx={{ listStyle: 'none', m: 0, p: 0, maxHeight: compared ? 150 : 'none', overflow: 'auto' }}
        >
          {(versions.data ?? []).map((v) => (
            <Box
              component="li"
              key={v.number}
              sx={{ display: 'flex', alignItems: 'center', gap: 1, py: 0.8, borderBottom: 1, borderColor: 'divider' }}
            >
              <Box sx={{ flex: 1 }}>
                Version {v.number}
                {v.note && `: ${v.note}`}
                <Typography variant="body2" color="text.secondary">
                  {v.author && `${v.author}, `}
                  {when(v.saved)} · {v.version}
                </Typography>
              </Box>
              <Button
                size="small"
                color="inherit"
                aria-pressed={compared === v.number}
                onClick={() => setCompared(v.number)}
              >
                Compare
              </Button>
              <Button size="small" onClick={() => take.mutate(v.number)} disabled={take.isPending}>
                Take into the editor
              </Button>
            </Box>
          ))}
        </Box>
        {compared && (
          <Comparison key={compared} template={name} number={compared} revision={revision} sitter={sitter} />
        )}
        <Typography variant="body2" color="text.secondary" sx={{ mt: 1.5 }}>
          Taking a version replaces source, settings and text in the editor. Pictures stay those of the latest version,
          and nothing is saved until you save. No version is ever deleted.
        </Typography>
      </DialogContent>
      <DialogActions>
        <Button onClick={onClose}>Close</Button>
      </DialogActions>
    </Dialog>
  )
}

/** A version beside what stands in the editor: source, settings and look. */
function Comparison({
  template,
  number,
  revision,
  sitter,
}: {
  template: string
  number: number
  revision: Revision
  sitter: Sitter
}) {
  const { draft } = revision
  const { person, variant } = sitter
  const version = useQuery({ queryKey: ['version', template, number], queryFn: () => api.version(template, number) })
  const then = useQuery({
    queryKey: ['look of version', template, number, person, variant],
    queryFn: () =>
      api.look(template, {
        source: version.data?.source,
        settings: version.data?.settings,
        texts: version.data?.texts,
        person,
        variant: version.data?.variants.includes(variant) ? variant : '',
      }),
    enabled: version.data !== undefined,
  })
  const now = useLook(template, revision, { ...sitter, client: '' })
  if (!version.data) return <Trouble error={version.error} />
  const same = version.data.source === draft.source
  return (
    <Box sx={{ mt: 2 }}>
      {same ? (
        <Typography>The source is the same as in the editor.</Typography>
      ) : (
        <SideBySide before={version.data.source} after={draft.source} label={`Version ${number} and the editor`} />
      )}
      {version.data.settings !== draft.settings && (
        <Box sx={{ mt: 1 }}>
          <SideBySide before={version.data.settings} after={draft.settings} label="Settings" />
        </Box>
      )}
      <Trouble error={then.error ?? now.error} />
      <Box sx={{ display: 'grid', gridTemplateColumns: '1fr 1fr', gap: 1, mt: 1 }}>
        {[
          { title: `Version ${number}`, look: then.data },
          { title: 'In the editor', look: now.data },
        ].map(({ title, look }) => (
          <Box key={title}>
            <Typography sx={{ fontWeight: 600 }}>{title}</Typography>
            <Box sx={{ height: 240, border: 1, borderColor: 'divider' }}>
              {look && <LookFrame look={look} title={title} />}
            </Box>
          </Box>
        ))}
      </Box>
    </Box>
  )
}
