import Button from '@mui/material/Button'
import Menu from '@mui/material/Menu'
import MenuItem from '@mui/material/MenuItem'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api } from '../api/api'
import { Trouble } from '../pages/parts'
import { download } from './download'
import type { Draft } from './draft'

/** The signature of the picked person as a file, in each form. */
export function FilesMenu({
  template,
  draft,
  person,
  variant,
}: {
  template: string
  draft: Draft
  person: string
  variant: string
}) {
  const [anchor, setAnchor] = useState<HTMLElement | null>(null)
  const forms = useQuery({ queryKey: ['forms'], queryFn: api.forms, staleTime: Infinity })
  const make = useMutation({
    mutationFn: (form: string) => api.fill(template, { ...draft, person, variant, form }),
    onSuccess: (file) => {
      download(file)
      setAnchor(null)
    },
  })
  return (
    <>
      <Button
        color="inherit"
        onClick={(e) => setAnchor(e.currentTarget)}
        disabled={person === ''}
        title={person === '' ? 'Pick a person first' : 'The signature of this person as a file'}
      >
        Files
      </Button>
      <Menu
        anchorEl={anchor}
        open={anchor !== null}
        onClose={() => setAnchor(null)}
        slotProps={{ list: { 'aria-label': 'Forms' }, paper: { sx: { maxWidth: 460 } } }}
      >
        {(forms.data ?? []).map((f) => (
          <MenuItem key={f.form} onClick={() => make.mutate(f.form)} sx={{ display: 'block', whiteSpace: 'normal' }}>
            {f.form}{' '}
            <Typography component="span" color="text.secondary">
              {f.suffix}
            </Typography>
            <Typography variant="body2" color="text.secondary">
              {f.about}
            </Typography>
          </MenuItem>
        ))}
        {make.error && (
          <li>
            <Trouble error={make.error} />
          </li>
        )}
      </Menu>
    </>
  )
}
