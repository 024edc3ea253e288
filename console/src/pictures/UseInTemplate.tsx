import Box from '@mui/material/Box'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Act } from '../access/session'
import { api, type PictureRecipe, type PictureRecord } from '../api/api'
import { TemplateField, Trouble } from '../pages/parts'

/** Puts the rendition into a template. */
export function UseInTemplate({ record, recipe }: { record: PictureRecord; recipe: PictureRecipe }) {
  const queries = useQueryClient()
  const templates = useQuery({ queryKey: ['templates'], queryFn: api.templates })
  const [template, setTemplate] = useState('')
  const [name, setName] = useState('')
  const use = useMutation({
    mutationFn: () => api.usePicture(record.name, { template, name: name || record.name, recipe }),
    onSuccess: () =>
      Promise.all([
        queries.invalidateQueries({ queryKey: ['picture', record.name] }),
        queries.invalidateQueries({ queryKey: ['templates'] }),
      ]),
  })
  return (
    <Box
      component="form"
      aria-label="Use in a template"
      onSubmit={(e) => {
        e.preventDefault()
        use.mutate()
      }}
      sx={{ borderTop: 1, borderColor: 'divider', pt: 2 }}
    >
      <Typography variant="h2" sx={{ mb: 1 }}>
        Use it in a template
      </Typography>
      <Box sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap' }}>
        <TemplateField templates={templates.data} value={template} onChange={setTemplate} />
        <TextField
          size="small"
          label="Name there"
          value={name}
          placeholder={record.name}
          onChange={(e) => setName(e.target.value)}
          slotProps={{ inputLabel: { shrink: true } }}
          sx={{ width: 150 }}
        />
        <Act needs="pictures" type="submit" variant="outlined" disabled={!template || use.isPending}>
          Put it in
        </Act>
      </Box>
      <Typography variant="body2" role="status" sx={{ mt: 1 }}>
        {use.data && (
          <>
            Saved as version {use.data.number} of {use.data.title}. In its source:{' '}
            <code>{`<img data-picture="${name || record.name}">`}</code>
          </>
        )}
      </Typography>
      <Trouble error={use.error} />
    </Box>
  )
}
