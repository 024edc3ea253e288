import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { api } from '../api/api'
import { Trouble } from '../pages/parts'
import type { Draft } from './draft'
import { download } from './download'

const views = ['light', 'dark', 'blocked'] as const
type View = (typeof views)[number]
const viewNames: Record<View, string> = { light: 'Light', dark: 'Dark mode', blocked: 'Pictures blocked' }

/** The contact sheet: drawn to look at, then taken as a picture or as a page to print. */
export function SheetDialog({
  template,
  draft,
  person,
  variant,
  onClose,
}: {
  template: string
  draft: Draft
  person: string
  variant: string
  onClose: () => void
}) {
  const [chosen, setChosen] = useState<View[]>(['light', 'dark'])
  const [whose, setWhose] = useState<'usual' | 'picked'>('usual')
  const [clients, setClients] = useState<string[]>([])
  const [second, setSecond] = useState(false)
  const [picture, setPicture] = useState<{ name: string; data: Blob; address: string }>()
  const known = useQuery({ queryKey: ['clients'], queryFn: api.clients, staleTime: Infinity })
  const word = clients.length === 0 || clients.includes('wordproc-desktop')
  const asked = {
    ...draft,
    variant,
    views: chosen,
    clients,
    people: whose === 'picked' && person ? [person] : [],
    secondOpinion: second && word,
  }
  const draw = useMutation({
    mutationFn: () => api.sheet(template, { ...asked, form: 'png' }),
    onSuccess: (file) => setPicture({ ...file, address: URL.createObjectURL(file.data) }),
  })
  const page = useMutation({ mutationFn: () => api.sheet(template, { ...asked, form: 'html' }), onSuccess: download })
  useEffect(
    () => () => {
      if (picture) URL.revokeObjectURL(picture.address)
    },
    [picture],
  )
  const changed =
    <T,>(set: (value: T) => void) =>
    (value: T) => {
      set(value)
      setPicture(undefined)
    }
  return (
    <Dialog open onClose={onClose} maxWidth="xl" fullWidth aria-labelledby="sheet-title">
      <DialogTitle id="sheet-title">Contact sheet</DialogTitle>
      <DialogContent>
        <Typography color="text.secondary">
          The signature as every chosen client shows it, with a ring around what breaks and the survival map below: to
          pass on for approval.
        </Typography>
        <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', flexWrap: 'wrap', my: 1.5 }}>
          <TextField
            select
            size="small"
            label="People"
            value={whose}
            onChange={(e) => changed(setWhose)(e.target.value as 'usual' | 'picked')}
            sx={{ width: 250 }}
          >
            <MenuItem value="usual">The sample and the hardest case</MenuItem>
            <MenuItem value="picked" disabled={person === ''}>
              {person || 'The picked person'}
            </MenuItem>
          </TextField>
          <TextField
            select
            size="small"
            label="Clients"
            value={clients}
            sx={{ width: 220 }}
            slotProps={{
              inputLabel: { shrink: true },
              select: {
                multiple: true,
                displayEmpty: true,
                renderValue: (v) => ((v as string[]).length === 0 ? 'All' : (v as string[]).join(', ')),
              },
            }}
            onChange={(e) => changed(setClients)(e.target.value as unknown as string[])}
          >
            {(known.data ?? [])
              .filter((c) => !c.off)
              .map((c) => (
                <MenuItem key={c.id} value={c.id}>
                  {c.id}
                </MenuItem>
              ))}
          </TextField>
          <Box role="group" aria-label="Views">
            {views.map((v) => (
              <FormControlLabel
                key={v}
                label={viewNames[v]}
                control={
                  <Checkbox
                    size="small"
                    checked={chosen.includes(v)}
                    onChange={(e) =>
                      changed(setChosen)(views.filter((w) => (w === v ? e.target.checked : chosen.includes(w))))
                    }
                  />
                }
              />
            ))}
          </Box>
          <FormControlLabel
            disabled={!word}
            label="LibreOffice's drawing beside wordproc-desktop"
            control={
              <Checkbox size="small" checked={second && word} onChange={(e) => changed(setSecond)(e.target.checked)} />
            }
          />
        </Box>
        <Trouble error={draw.error ?? page.error} />
        {draw.isPending && <Typography role="status">Chromium draws the sheet ...</Typography>}
        {picture && (
          <Box
            tabIndex={0}
            role="group"
            aria-label="The sheet"
            sx={{ maxHeight: '60vh', overflow: 'auto', border: 1, borderColor: 'divider' }}
          >
            <img
              src={picture.address}
              alt={`Contact sheet of ${template}`}
              style={{ width: '100%', display: 'block' }}
            />
          </Box>
        )}
      </DialogContent>
      <DialogActions>
        <Button onClick={onClose}>Close</Button>
        <Button disabled={page.isPending || chosen.length === 0} onClick={() => page.mutate()}>
          Download the page to print
        </Button>
        {picture ? (
          <Button variant="contained" onClick={() => download(picture)}>
            Download the picture
          </Button>
        ) : (
          <Button variant="contained" disabled={draw.isPending || chosen.length === 0} onClick={() => draw.mutate()}>
            Draw it
          </Button>
        )}
      </DialogActions>
    </Dialog>
  )
}
