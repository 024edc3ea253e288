import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import List from '@mui/material/List'
import ListItemButton from '@mui/material/ListItemButton'
import ListSubheader from '@mui/material/ListSubheader'
import Popover from '@mui/material/Popover'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import type { Known } from './language'

interface Entry {
  label: string
  insert: string
  detail: string
}

/** Everything that can be put into a template, with the picked person's values. */
export function InsertMenu({ known, onInsert }: { known: Known; onInsert: (text: string) => void }) {
  const [anchor, setAnchor] = useState<HTMLElement | null>(null)
  const [search, setSearch] = useState('')
  const groups = entries(known)
    .map((g) => ({
      ...g,
      entries: g.entries.filter((e) => `${e.label} ${e.detail}`.toLowerCase().includes(search.toLowerCase())),
    }))
    .filter((g) => g.entries.length > 0)
  const take = (e: Entry) => {
    setAnchor(null)
    setSearch('')
    setTimeout(() => onInsert(e.insert)) // the popover gives the focus back first
  }
  return (
    <>
      <Button size="small" color="inherit" onClick={(e) => setAnchor(e.currentTarget)}>
        Insert
      </Button>
      <Popover
        open={anchor !== null}
        anchorEl={anchor}
        onClose={() => setAnchor(null)}
        anchorOrigin={{ vertical: 'bottom', horizontal: 'right' }}
        transformOrigin={{ vertical: 'top', horizontal: 'right' }}
        slotProps={{
          paper: {
            'aria-label': 'Insert',
            sx: { width: 400, maxHeight: 460, display: 'flex', flexDirection: 'column' },
          },
        }}
      >
        <Box sx={{ p: 1.2 }}>
          <TextField
            autoFocus
            fullWidth
            size="small"
            label="Find a field"
            value={search}
            onChange={(e) => setSearch(e.target.value)}
          />
        </Box>
        <List
          component="div"
          role="group"
          dense
          disablePadding
          sx={{ overflow: 'auto' }}
          aria-label="What can be inserted"
        >
          {groups.map((g) => [
            <ListSubheader component="div" key={g.title}>
              {g.title}
            </ListSubheader>,
            ...g.entries.map((e) => (
              <ListItemButton key={g.title + e.label} onClick={() => take(e)} sx={{ gap: 1.5 }}>
                <Box component="span" sx={{ minWidth: 130 }}>
                  {e.label}
                </Box>
                <Typography
                  component="bdi"
                  variant="body2"
                  color="text.secondary"
                  sx={{ overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: 'nowrap' }}
                >
                  {e.detail}
                </Typography>
              </ListItemButton>
            )),
          ])}
        </List>
      </Popover>
    </>
  )
}

function entries({ reference, values }: Known): { title: string; entries: Entry[] }[] {
  if (!reference) return []
  const field = (f: (typeof reference.fields)[number]): Entry => ({
    label: f.name,
    insert: `{{ ${f.name} }}`,
    detail: values[f.name] || `${f.title}${values[f.name] === '' ? ', blank' : ''}`,
  })
  return [
    { title: 'Fields with a value here', entries: reference.fields.filter((f) => values[f.name]).map(field) },
    { title: 'Other fields', entries: reference.fields.filter((f) => !values[f.name]).map(field) },
    {
      title: 'Modifiers, behind a bar',
      entries: reference.modifiers.map((m) => ({
        label: m.name,
        insert: m.argument ? ` | ${m.name} ''` : ` | ${m.name}`,
        detail: m.doc,
      })),
    },
    {
      title: 'Attributes',
      entries: reference.attributes.map((a) => ({ label: a.name, insert: ` ${a.name}="${a.example}"`, detail: a.doc })),
    },
  ]
}
