import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api } from '../api/api'
import { SourceBox, Trouble } from '../pages/parts'
import { usePaused } from '../workbench/paused'
import { PersonPicker } from '../workbench/PersonPicker'
import { weight } from './facts'
import { NumberField } from './fields'

/** A link or a person's vCard as a QR code. */
export function Codes() {
  const [text, setText] = useState('')
  const [person, setPerson] = useState('')
  const [organisation, setOrganisation] = useState('')
  const [width, setWidth] = useState(160)
  const [recovers, setRecovers] = useState('15')
  const [dark, setDark] = useState('')
  const wish = usePaused({ text: person ? '' : text, person, organisation, recipe: { width, recovers, dark } }, 300)
  const code = useQuery({
    queryKey: ['code', wish],
    queryFn: () => api.code(wish),
    enabled: Boolean(wish.text || wish.person) && wish.recipe.width > 0,
    placeholderData: keepPreviousData,
    gcTime: 10_000,
  })
  const made = wish.text || wish.person ? code.data : undefined
  return (
    <Box sx={{ display: 'grid', gridTemplateColumns: { xs: '1fr', md: 'minmax(0, 1fr) minmax(0, 1fr)' }, gap: 4 }}>
      <Box sx={{ display: 'flex', flexDirection: 'column', gap: 2 }}>
        <PersonPicker label="Whose vCard" none="Nobody’s: a link" value={person} onChange={setPerson} />
        {person ? (
          <TextField
            size="small"
            label="Organisation on the card"
            value={organisation}
            onChange={(e) => setOrganisation(e.target.value)}
          />
        ) : (
          <TextField size="small" label="Link or text" value={text} onChange={(e) => setText(e.target.value)} />
        )}
        <Box sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap' }}>
          <NumberField label="At most, px wide" value={width} onChange={setWidth} />
          <TextField
            select
            size="small"
            label="May be spoilt"
            value={recovers}
            onChange={(e) => setRecovers(e.target.value)}
            sx={{ width: 140 }}
          >
            {['7', '15', '25', '30'].map((n) => (
              <MenuItem key={n} value={n}>
                {n} %
              </MenuItem>
            ))}
          </TextField>
          <TextField
            size="small"
            label="Colour"
            value={dark}
            placeholder="#000000"
            onChange={(e) => setDark(e.target.value)}
            slotProps={{ inputLabel: { shrink: true } }}
            sx={{ width: 130 }}
          />
        </Box>
        <Typography variant="body2" color="text.secondary">
          Everybody’s codes are drawn by missivum picture code --people FILE -o FOLDER.
        </Typography>
        <Trouble error={wish.text || wish.person ? code.error : null} />
      </Box>
      {made && (
        <Box role="status">
          <Box
            sx={{
              bgcolor: '#ffffff',
              p: 2,
              border: 1,
              borderColor: 'divider',
              width: 'fit-content',
              lineHeight: 0,
              mb: 1,
            }}
          >
            <img
              src={made.image}
              width={made.width}
              height={made.width}
              alt="The code"
              style={{ imageRendering: 'pixelated' }}
            />
          </Box>
          <Typography>
            {made.modules} modules each way of {made.module} pixels, shown at {made.width} × {made.width} px,{' '}
            {weight(made.bytes)}; the next larger takes {made.next} px.
          </Typography>
          <Button variant="outlined" href={made.image} download="code.png" sx={{ my: 1 }}>
            Download
          </Button>
          <SourceBox label="What it says">{made.text}</SourceBox>
        </Box>
      )}
    </Box>
  )
}
