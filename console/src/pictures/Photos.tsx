import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import LinearProgress from '@mui/material/LinearProgress'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Act } from '../access/session'
import { api } from '../api/api'
import { count, grouped, Severity, Trouble } from '../pages/parts'
import { weight } from './facts'
import { NumberField, ShapeField } from './fields'

/** Whether a job waits or runs. */
function open(state?: string): boolean {
  return state === 'running' || state === 'waiting'
}

/** Everybody's photo, fitted in bulk. */
export function Photos() {
  const queries = useQueryClient()
  const [size, setSize] = useState(96)
  const [shape, setShape] = useState('round')
  const [background, setBackground] = useState('#ffffff')
  const state = useQuery({
    queryKey: ['photos'],
    queryFn: api.photos,
    refetchInterval: (q) => (open(q.state.data?.state) ? 400 : false),
  })
  const refresh = () => queries.invalidateQueries({ queryKey: ['photos'] })
  const recipe = {
    width: String(size),
    height: String(size),
    shape,
    radius: shape === 'rounded' ? '8' : '',
    background,
  }
  const start = useMutation({ mutationFn: (archive: File) => api.startPhotos(archive, recipe), onSettled: refresh })
  const stop = useMutation({ mutationFn: api.stopPhotos, onSettled: refresh })
  const s = state.data
  return (
    <Box sx={{ maxWidth: 780 }}>
      <Typography sx={{ mb: 2 }}>
        A zip with a photo for each person, named by mail address (maren.lind@brackwater.example.jpg). Each is turned
        upright, cut to what stands out, fitted, and hosted; the field photoAddress then leads to it.
      </Typography>
      <Box sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap', mb: 2 }}>
        <NumberField label="Shown at, px" value={size} onChange={setSize} width={130} />
        <ShapeField value={shape} onChange={setShape} />
        <TextField
          size="small"
          label="Background"
          value={background}
          onChange={(e) => setBackground(e.target.value)}
          helperText="blank: transparent"
          sx={{ width: 150 }}
        />
        <Button component="label" variant="contained" disabled={size < 1} sx={{ alignSelf: 'flex-start' }}>
          Choose the zip
          <input
            type="file"
            accept=".zip,application/zip"
            hidden
            onChange={(e) => {
              const f = e.target.files?.[0]
              if (f) start.mutate(f)
              e.target.value = ''
            }}
          />
        </Button>
      </Box>
      <Trouble error={state.error ?? start.error ?? stop.error} />
      {open(s?.state) && s && (
        <Box sx={{ display: 'flex', alignItems: 'center', gap: 2 }}>
          <Box sx={{ flex: 1 }}>
            <LinearProgress
              variant="determinate"
              value={s.total ? (100 * s.done) / s.total : 0}
              aria-label="Photos fitted"
            />
            <Typography variant="body2">
              {s.state === 'waiting'
                ? 'Waiting for its turn'
                : `${grouped(s.done)} of ${count(s.total, 'photo', 'photos')}`}
            </Typography>
          </Box>
          <Act needs="people" onClick={() => stop.mutate()}>
            Stop
          </Act>
        </Box>
      )}
      {s && !open(s.state) && s.state !== 'none' && (
        <Box role="status">
          <Severity of={s.state === 'ready' ? 'fine' : s.state === 'failed' ? 'breaks' : 'note'}>
            {s.state === 'ready'
              ? `${count(s.fitted, 'photo', 'photos')} fitted, ${grouped(s.kept)} there already, ${weight(s.bytes)} all together; ${count(s.hosted, 'person has', 'people have')} theirs hosted`
              : s.message}
          </Severity>
        </Box>
      )}
      {s &&
        s.warnings.map((w) => (
          <Severity key={w} of="degrades">
            {w}
          </Severity>
        ))}
      {s && s.unknown.length > 0 && (
        <Typography
          sx={{ mt: 1 }}
        >{`Not hosted, since nobody in the directory has the address: ${s.unknown.slice(0, 10).join(', ')}${s.unknown.length > 10 ? ` and ${s.unknown.length - 10} more` : ''}.`}</Typography>
      )}
      {s && s.refused.length > 0 && (
        <Box component="ul" aria-label="Left out" sx={{ pl: 2.5 }}>
          {s.refused.map((r) => (
            <li key={r.mail}>
              <b>{r.mail}</b>: {r.error}
            </li>
          ))}
        </Box>
      )}
    </Box>
  )
}
