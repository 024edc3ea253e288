import Autocomplete from '@mui/material/Autocomplete'
import Box from '@mui/material/Box'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, type PeoplePage } from '../api/api'
import { usePaused } from './paused'

interface Choice {
  mail: string
  name: string
  group: 'To begin with' | 'Hard cases' | 'Everybody'
  why?: string
}

const fieldNames: Choice = { mail: '', name: 'Field names', group: 'To begin with' }

interface Props {
  value: string
  onChange: (mail: string) => void
  label?: string
  none?: string
  /** Whose largest signature is offered too. */
  template?: string
}

/** Everybody to choose from, first those who strain a template, with the reason. */
export function PersonPicker({ value, onChange, label = 'Person', none = fieldNames.name, template = '' }: Props) {
  const nobody = { ...fieldNames, name: none }
  const [text, setText] = useState('')
  const search = usePaused(text, 150)
  const people = useQuery({
    queryKey: ['people', search, 'picker'],
    queryFn: () => api.people(search, 0, 100),
    placeholderData: keepPreviousData,
  })
  const hard = useQuery({ queryKey: ['people', 'hard cases', template], queryFn: () => api.hardCases(template) })
  const cases: Choice[] = (hard.data ?? []).map((h) => ({
    mail: h.mail,
    name: h.name || h.mail,
    group: 'Hard cases',
    why: h.reasons.join('; '),
  }))
  const found = [nobody, ...everybody(people.data), ...cases].find((o) => o.mail === value)
  const current: Choice = { mail: value, name: found?.name ?? value, group: 'To begin with' }
  const first = value === '' ? [nobody] : [current, nobody]
  const options = search ? everybody(people.data) : [...first, ...cases, ...everybody(people.data)]
  return (
    <Autocomplete<Choice, false, true>
      size="small"
      sx={{ width: 190 }}
      options={options}
      value={current}
      disableClearable
      filterOptions={(all) => all}
      groupBy={(o) => o.group}
      getOptionLabel={(o) => o.name}
      getOptionKey={(o) => `${o.group} ${o.mail}`}
      isOptionEqualToValue={(a, b) => a.mail === b.mail}
      onChange={(_, o) => onChange(o.mail)}
      onInputChange={(_, v, reason) => setText(reason === 'input' ? v : '')}
      slotProps={{ popper: { sx: { minWidth: 400 } } }}
      renderOption={({ key, ...props }, o) => (
        <Box component="li" key={key} {...props} sx={{ display: 'block !important' }}>
          <bdi>{o.name}</bdi>
          {o.why && (
            <Typography variant="body2" color="text.secondary">
              {o.why}
            </Typography>
          )}
        </Box>
      )}
      renderInput={(props) => <TextField {...props} label={label} />}
    />
  )
}

function everybody(page?: PeoplePage): Choice[] {
  if (!page) return []
  const cn = page.fields.findIndex((f) => f.name === 'cn')
  return page.people.map((p) => ({ mail: p.mail, name: p.values[cn] || p.mail, group: 'Everybody' }))
}
