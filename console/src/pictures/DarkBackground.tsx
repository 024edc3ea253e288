import Box from '@mui/material/Box'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Act } from '../access/session'
import { api, pictureView, type PictureRecipe, type PictureRecord, type PictureVersion } from '../api/api'
import { Trouble } from '../pages/parts'
import { usePaused } from '../workbench/paused'
import { OnBackgrounds, Outcome } from './facts'
import { NumberField } from './fields'
import { UseInTemplate } from './UseInTemplate'

/** Whether a picture vanishes on a dark background, and the fix, on every background. */
export function DarkBackground({ record, latest }: { record: PictureRecord; latest: PictureVersion }) {
  const queries = useQueryClient()
  const [way, setWay] = useState('outline')
  const [colour, setColour] = useState('#ffffff')
  const [line, setLine] = useState(0)
  const [shown, setShown] = useState(Math.min(latest.facts.width, 88))
  const recipe: PictureRecipe = { width: shown, dark: { way, colour, width: line || undefined } }
  const wish = usePaused(recipe, 300)
  const probe = useQuery({
    queryKey: ['probe', record.name, latest.number, 0],
    queryFn: () => api.probe(record.name, 0, 0),
  })
  const made = useQuery({
    queryKey: ['dark', record.name, latest.number, wish],
    queryFn: ({ signal }) => api.fit(record.name, wish, false, signal),
    enabled: latest.facts.transparent && shown > 0,
    placeholderData: keepPreviousData,
    gcTime: 10_000,
  })
  const keep = useMutation({
    mutationFn: () => api.fit(record.name, recipe, true),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['picture', record.name] }),
  })
  if (!latest.facts.transparent) {
    return (
      <Typography>
        It has a background of its own everywhere: nothing of it vanishes in dark mode, and on a dark background it is a
        box.
      </Typography>
    )
  }
  const vanishes = probe.data?.vanishes ?? []
  return (
    <>
      <Trouble error={probe.error ?? made.error ?? keep.error} />
      <Typography variant="h2" sx={{ mb: 1 }}>
        As it is
      </Typography>
      <Typography role="status" sx={{ mb: 1 }}>
        {probe.data &&
          (vanishes.length > 0
            ? `It vanishes on a ${vanishes.join(' and a ')} background.`
            : 'It can be seen on every background.')}
      </Typography>
      {probe.data && (
        <OnBackgrounds sights={probe.data.sights} src={pictureView(record.name, latest.number)} label={record.name} />
      )}
      <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', mt: 4, mb: 1.5, flexWrap: 'wrap' }}>
        <Typography variant="h2" sx={{ flex: 1 }}>
          Fixed
        </Typography>
        <NumberField label="Shown at, px wide" value={shown} onChange={setShown} width={160} />
        <TextField
          select
          size="small"
          label="Fix"
          value={way}
          onChange={(e) => setWay(e.target.value)}
          sx={{ width: 160 }}
        >
          <MenuItem value="outline">thin outline</MenuItem>
          <MenuItem value="plate">plate of colour</MenuItem>
        </TextField>
        <TextField
          size="small"
          label="Colour"
          value={colour}
          onChange={(e) => setColour(e.target.value)}
          sx={{ width: 120 }}
        />
        <NumberField
          label="Width, px"
          value={line}
          onChange={setLine}
          max={200}
          width={110}
          placeholder={way === 'outline' ? '1' : '4'}
        />
        <Act needs="pictures" variant="contained" disabled={!made.data || keep.isPending} onClick={() => keep.mutate()}>
          Keep the fixed one
        </Act>
      </Box>
      {made.data && (
        <>
          <OnBackgrounds sights={made.data.sights} src={made.data.image} label={`${record.name}, fixed`} />
          <Box sx={{ mt: 1.5 }}>
            <Outcome made={made.data} />
          </Box>
        </>
      )}
      <Typography variant="body2" role="status" sx={{ mb: 2 }}>
        {keep.data && (
          <>
            Kept as <code>{keep.data.key}</code>
          </>
        )}
      </Typography>
      <Box sx={{ maxWidth: 620 }}>
        <UseInTemplate record={record} recipe={recipe} />
      </Box>
    </>
  )
}
