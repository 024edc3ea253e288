import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useRef, useState, type KeyboardEvent, type PointerEvent } from 'react'
import { Act } from '../access/session'
import {
  api,
  pictureView,
  type PictureFacts,
  type PictureRecipe,
  type PictureRecord,
  type PictureVersion,
} from '../api/api'
import { Trouble } from '../pages/parts'
import { usePaused } from '../workbench/paused'
import { checkered, Outcome } from './facts'
import { FormatField, NumberField, ShapeField } from './fields'
import { UseInTemplate } from './UseInTemplate'

/** How a rendition is asked for while it is being decided. */
interface Wish {
  width: number
  height: number
  multiple: number
  x: number
  y: number
  zoom: number
  pad: boolean
  shape: string
  radius: number
  ring: number
  colour: string
  background: string
  format: string
  limit: number
}

function recipeOf(w: Wish): PictureRecipe {
  return {
    width: w.width || undefined,
    height: w.height || undefined,
    multiple: w.multiple,
    focus: { x: w.x, y: w.y },
    zoom: w.zoom > 1 ? w.zoom : undefined,
    pad: w.pad || undefined,
    shape: w.shape || undefined,
    radius: w.shape === 'rounded' ? w.radius : undefined,
    ring: w.ring || undefined,
    colour: w.ring ? w.colour : undefined,
    background: w.background || undefined,
    format: w.format || undefined,
    limit: w.limit || undefined,
  }
}

/** The part of the picture that is shown, in shares of it. */
function frameOf(w: Wish, f: PictureFacts) {
  const proportion = w.width && w.height ? w.width / w.height : f.width / f.height
  let width = Math.min(1, (f.height * proportion) / f.width)
  let height = Math.min(1, f.width / proportion / f.height)
  if (!w.pad) {
    width /= w.zoom
    height /= w.zoom
  }
  const clamp = (v: number, room: number) => Math.min(Math.max(v, 0), room)
  return { width, height, left: clamp(w.x - width / 2, 1 - width), top: clamp(w.y - height / 2, 1 - height) }
}

const share = (v: number) => Math.round(Math.min(Math.max(v, 0), 1) * 1000) / 1000

/** Crop and shape by hand, with the rendition beside it. */
export function Cropper({ record, latest }: { record: PictureRecord; latest: PictureVersion }) {
  const queries = useQueryClient()
  const facts = latest.facts
  const [wish, setWish] = useState<Wish>({
    width: Math.min(facts.width, 120),
    height: 0,
    multiple: 2,
    x: 0.5,
    y: 0.5,
    zoom: 1,
    pad: false,
    shape: '',
    radius: 8,
    ring: 0,
    colour: '#0b3c49',
    background: '',
    format: '',
    limit: 0,
  })
  const set = (change: Partial<Wish>) => setWish((w) => ({ ...w, ...change }))
  const recipe = usePaused(recipeOf(wish), 250)
  const possible = Boolean(recipe.width ?? recipe.height)
  const made = useQuery({
    queryKey: ['fit', record.name, latest.number, recipe],
    queryFn: ({ signal }) => api.fit(record.name, recipe, false, signal),
    enabled: possible,
    placeholderData: keepPreviousData,
    gcTime: 10_000,
  })
  const keep = useMutation({
    mutationFn: () => api.fit(record.name, recipeOf(wish), true),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['picture', record.name] }),
  })
  const focus = useMutation({
    mutationFn: () => api.probe(record.name, 0, 0),
    onSuccess: (p) => set({ x: share(p.focus.x), y: share(p.focus.y) }),
  })
  const data = made.data
  return (
    <Box
      sx={{ display: 'grid', gridTemplateColumns: { xs: '1fr', md: 'minmax(0, 1fr) minmax(340px, 460px)' }, gap: 4 }}
    >
      <Box>
        <Box sx={{ display: 'flex', gap: 4, flexWrap: 'wrap', alignItems: 'flex-start' }}>
          <CropFrame record={record} latest={latest} wish={wish} onChange={set} />
          <Box component="section" aria-label="Rendition" sx={{ flex: 1, minWidth: 250 }}>
            <Typography variant="h2" sx={{ mb: 1 }}>
              The rendition
            </Typography>
            <Trouble error={made.error} />
            {!data && !made.error && possible && <Typography color="text.secondary">Fitting ...</Typography>}
            {data && (
              <Box sx={{ opacity: made.isPlaceholderData ? 0.6 : 1 }}>
                <Box
                  sx={{
                    ...checkered,
                    p: 1.5,
                    mb: 1,
                    border: 1,
                    borderColor: 'divider',
                    lineHeight: 0,
                    width: 'fit-content',
                    maxWidth: '100%',
                    overflow: 'auto',
                  }}
                >
                  <img
                    src={data.image}
                    width={data.width}
                    height={data.height}
                    alt={`${record.name}, as it will be shown`}
                  />
                </Box>
                <Outcome made={data} />
              </Box>
            )}
          </Box>
        </Box>
        <Typography variant="body2" color="text.secondary" sx={{ mt: 0.5 }}>
          Drag the frame, or focus it: arrow keys move it, plus and minus change the zoom.
        </Typography>
      </Box>
      <Box sx={{ display: 'flex', flexDirection: 'column', gap: 2 }}>
        <Box sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap' }}>
          <NumberField label="Width, px" value={wish.width} onChange={(width) => set({ width })} width={110} />
          <NumberField
            label="Height, px"
            value={wish.height}
            onChange={(height) => set({ height })}
            width={110}
            helperText={wish.height ? undefined : 'follows'}
          />
          <TextField
            select
            size="small"
            label="Pixels for each px"
            value={wish.multiple}
            onChange={(e) => set({ multiple: Number(e.target.value) })}
            sx={{ width: 150 }}
          >
            {[1, 2, 3].map((n) => (
              <MenuItem key={n} value={n}>
                {n}
              </MenuItem>
            ))}
          </TextField>
        </Box>
        <Box sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap', alignItems: 'center' }}>
          <TextField
            size="small"
            label="Zoom"
            type="number"
            value={wish.zoom}
            onChange={(e) => set({ zoom: Math.min(20, Math.max(1, Number(e.target.value) || 1)) })}
            sx={{ width: 110 }}
            slotProps={{ htmlInput: { step: 0.1, min: 1, max: 20 } }}
          />
          <Button variant="outlined" onClick={() => focus.mutate()} disabled={focus.isPending}>
            Find the focus
          </Button>
          <FormControlLabel
            control={<Checkbox checked={wish.pad} onChange={(e) => set({ pad: e.target.checked })} />}
            label="Keep all of it"
          />
        </Box>
        <Box sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap' }}>
          <ShapeField value={wish.shape} onChange={(shape) => set({ shape })} />
          {wish.shape === 'rounded' && (
            <NumberField label="Radius, px" value={wish.radius} onChange={(radius) => set({ radius })} width={110} />
          )}
          <NumberField label="Ring, px" value={wish.ring} onChange={(ring) => set({ ring })} width={110} />
          {wish.ring > 0 && (
            <TextField
              size="small"
              label="Ring colour"
              value={wish.colour}
              onChange={(e) => set({ colour: e.target.value })}
              sx={{ width: 120 }}
            />
          )}
          <TextField
            size="small"
            label="Background"
            value={wish.background}
            onChange={(e) => set({ background: e.target.value })}
            helperText="blank: transparent"
            sx={{ width: 140 }}
          />
        </Box>
        <Box sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap' }}>
          <FormatField value={wish.format} onChange={(format) => set({ format })} />
          <NumberField
            label="At most, bytes"
            value={wish.limit}
            onChange={(limit) => set({ limit })}
            max={32_000_000}
            helperText={wish.limit ? undefined : 'no limit'}
          />
        </Box>
        <Box sx={{ display: 'flex', gap: 1.5, alignItems: 'center' }}>
          <Act
            needs="pictures"
            variant="contained"
            onClick={() => keep.mutate()}
            disabled={!possible || keep.isPending}
          >
            Keep the rendition
          </Act>
          <Typography variant="body2" role="status">
            {keep.data && (
              <>
                Kept as <code>{keep.data.key}</code>
              </>
            )}
          </Typography>
        </Box>
        <Trouble error={keep.error ?? focus.error} />
        <UseInTemplate record={record} recipe={recipeOf(wish)} />
      </Box>
    </Box>
  )
}

/** The picture with the part that is shown; the rest is dimmed. */
function CropFrame({
  record,
  latest,
  wish,
  onChange,
}: {
  record: PictureRecord
  latest: PictureVersion
  wish: Wish
  onChange: (change: Partial<Wish>) => void
}) {
  const frame = frameOf(wish, latest.facts)
  const grabbed = useRef<{ x: number; y: number } | null>(null)
  const within = (x: number, y: number) => ({
    x: share(Math.min(Math.max(x, frame.width / 2), 1 - frame.width / 2)),
    y: share(Math.min(Math.max(y, frame.height / 2), 1 - frame.height / 2)),
  })
  const at = (e: PointerEvent) => {
    const r = e.currentTarget.getBoundingClientRect()
    return { x: (e.clientX - r.left) / r.width, y: (e.clientY - r.top) / r.height }
  }
  const middle = { x: frame.left + frame.width / 2, y: frame.top + frame.height / 2 }
  const key = (e: KeyboardEvent) => {
    const step = e.shiftKey ? 0.1 : 0.01
    const moves: Record<string, [number, number]> = {
      ArrowLeft: [-step, 0],
      ArrowRight: [step, 0],
      ArrowUp: [0, -step],
      ArrowDown: [0, step],
    }
    const move = moves[e.key]
    if (move) onChange(within(middle.x + move[0], middle.y + move[1]))
    else if (e.key === '+' || e.key === '=') onChange({ zoom: Math.min(20, Math.round((wish.zoom + 0.1) * 10) / 10) })
    else if (e.key === '-') onChange({ zoom: Math.max(1, Math.round((wish.zoom - 0.1) * 10) / 10) })
    else return
    e.preventDefault()
  }
  const percent = (v: number) => `${100 * v}%`
  return (
    <Box
      sx={{
        ...checkered,
        position: 'relative',
        border: 1,
        borderColor: 'divider',
        width: 'fit-content',
        maxWidth: '100%',
        lineHeight: 0,
        overflow: 'hidden',
        touchAction: 'none',
      }}
      onPointerDown={(e) => {
        const p = at(e)
        grabbed.current = { x: middle.x - p.x, y: middle.y - p.y }
        e.currentTarget.setPointerCapture(e.pointerId)
      }}
      onPointerMove={(e) => {
        if (grabbed.current) {
          const p = at(e)
          onChange(within(p.x + grabbed.current.x, p.y + grabbed.current.y))
        }
      }}
      onPointerUp={() => {
        grabbed.current = null
      }}
    >
      <img
        src={pictureView(record.name, latest.number)}
        alt=""
        draggable={false}
        style={{
          maxWidth: '100%',
          maxHeight: 400,
          width: latest.facts.width < 300 ? 300 : undefined,
          aspectRatio: `${latest.facts.width} / ${latest.facts.height}`,
        }}
      />
      <Box
        tabIndex={0}
        role="application"
        aria-label={`Crop frame, ${Math.round(100 * middle.x)} % across and ${Math.round(100 * middle.y)} % down; arrow keys move it, plus and minus zoom`}
        onKeyDown={key}
        sx={{
          position: 'absolute',
          left: percent(frame.left),
          top: percent(frame.top),
          width: percent(frame.width),
          height: percent(frame.height),
          cursor: 'move',
          boxShadow: '0 0 0 9999px rgb(20 16 14 / 55%)',
          outline: '2px solid #ffffff',
          borderRadius:
            wish.shape === 'round'
              ? '50%'
              : wish.shape === 'rounded'
                ? percent(wish.radius / (wish.width || wish.height || 1))
                : 0,
          '&:focus-visible': { outline: '3px solid', outlineColor: 'warning.main' },
        }}
      />
    </Box>
  )
}
