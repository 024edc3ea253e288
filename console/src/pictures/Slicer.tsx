import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import ToggleButton from '@mui/material/ToggleButton'
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup'
import Typography from '@mui/material/Typography'
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useRef, useState, type KeyboardEvent, type PointerEvent } from 'react'
import { Act } from '../access/session'
import {
  api,
  pictureView,
  slicedFile,
  type PictureRecord,
  type PictureVersion,
  type SlicedPicture,
  type SliceMap,
} from '../api/api'
import { count, Severity, SourceBox, Trouble } from '../pages/parts'
import { usePaused } from '../workbench/paused'
import { weight } from './facts'
import { NumberField } from './fields'

type Line = NonNullable<SliceMap['lines']>[number]

/** A design with the lines that cut it, its pieces, and the table in which they join. */
export function Slicer({ record, latest }: { record: PictureRecord; latest: PictureVersion }) {
  const queries = useQueryClient()
  const facts = latest.facts
  const [map, setMap] = useState<SliceMap>(
    record.slices ?? { width: Math.min(Math.round(facts.width / 2) || 1, 600), lines: [], pieces: [] },
  )
  const [down, setDown] = useState(false)
  const [chosen, setChosen] = useState(-1)
  const lines = map.lines ?? []
  const height = Math.max(1, Math.round((map.width * facts.height) / facts.width))
  const settled = usePaused(map, 300)
  const cut = useQuery({
    queryKey: ['slice', record.name, latest.number, settled],
    queryFn: ({ signal }) => api.slice(record.name, settled, false, signal),
    enabled: settled.width > 0,
    placeholderData: keepPreviousData,
    gcTime: 10_000,
  })
  const keep = useMutation({
    mutationFn: () => api.slice(record.name, map, true),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['picture', record.name] }),
  })
  const setLines = (next: Line[]) => setMap((m) => ({ ...m, lines: next }))
  const change = (i: number, line: Partial<Line>) => setLines(lines.map((l, k) => (k === i ? { ...l, ...line } : l)))
  const add = (line: Line) => {
    setLines([...lines, line])
    setChosen(lines.length)
  }
  const remove = (i: number) => {
    setLines(lines.filter((_, k) => k !== i))
    setChosen(-1)
  }
  return (
    <Box sx={{ display: 'grid', gridTemplateColumns: { xs: '1fr', lg: 'minmax(0, 1fr) minmax(0, 1fr)' }, gap: 4 }}>
      <Box>
        <Box sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap', alignItems: 'center', mb: 1 }}>
          <NumberField label="Shown at, px wide" value={map.width} onChange={(width) => setMap({ ...map, width })} />
          {(['columns', 'rows'] as const).map((k) => (
            <NumberField
              key={k}
              label={k === 'columns' ? 'Columns' : 'Rows'}
              value={map[k]}
              onChange={(n) => setMap({ ...map, [k]: n || undefined })}
              max={100}
              width={92}
              placeholder="none"
            />
          ))}
          <ToggleButtonGroup
            exclusive
            size="small"
            value={down}
            onChange={(_, v: boolean | null) => v !== null && setDown(v)}
            aria-label="A new line goes"
            sx={{ '& .MuiToggleButton-root': { color: 'text.primary' } }}
          >
            <ToggleButton value={false}>across</ToggleButton>
            <ToggleButton value={true}>down</ToggleButton>
          </ToggleButtonGroup>
          <Button onClick={() => add({ at: Math.round((down ? map.width : height) / 2), down })}>Add a line</Button>
        </Box>
        <Design
          record={record}
          latest={latest}
          map={map}
          height={height}
          cut={cut.data}
          chosen={chosen}
          onChoose={setChosen}
          onChange={change}
          onRemove={remove}
          onDraw={(x, y) => add(drawn(lines, down, x, y, map.width, height))}
        />
        <Typography variant="body2" color="text.secondary" sx={{ mt: 0.5 }}>
          Click in the design to draw a line; it ends at the lines it meets. The arrow keys move a focused line, Delete
          removes it.
        </Typography>
        <Box component="ol" aria-label="Lines" sx={{ listStyle: 'none', m: 0, p: 0, mt: 1.5 }}>
          {lines.map((l, i) => (
            <Box component="li" key={i} sx={{ display: 'flex', gap: 1, alignItems: 'center', mb: 1 }}>
              <Typography sx={{ width: 60 }}>{l.down ? 'down' : 'across'}</Typography>
              {(['at', 'from', 'until'] as const).map((k) => (
                <NumberField
                  key={k}
                  label={`${k}, px`}
                  value={l[k]}
                  onChange={(n) => change(i, { [k]: k === 'at' ? n : n || undefined })}
                  width={92}
                  placeholder="edge"
                />
              ))}
              <Button
                size="small"
                color="inherit"
                onClick={() => remove(i)}
                aria-label={`Remove the line at ${l.at} px`}
              >
                Remove
              </Button>
            </Box>
          ))}
        </Box>
      </Box>
      <Box>
        <Trouble error={cut.error ?? keep.error} />
        {!cut.data && !cut.error && <Typography color="text.secondary">Cutting ...</Typography>}
        {cut.data && <Pieces cut={cut.data} map={map} onLabel={(pieces) => setMap({ ...map, pieces })} />}
        <Box sx={{ display: 'flex', gap: 1.5, alignItems: 'center', mt: 2, flexWrap: 'wrap' }}>
          <Act
            needs="pictures"
            variant="contained"
            onClick={() => keep.mutate()}
            disabled={!cut.data || keep.isPending}
          >
            Keep the cuts
          </Act>
          <Button variant="outlined" href={slicedFile(record.name)} disabled={!record.slices}>
            Template with the pieces
          </Button>
          <Typography variant="body2" role="status">
            {keep.data && 'The cuts are kept. You can edit them and cut again.'}
          </Typography>
        </Box>
        {cut.data && <Joined cut={cut.data} />}
      </Box>
    </Box>
  )
}

/** A new line through a place, from the line on one side to that on the other. */
function drawn(lines: Line[], down: boolean, x: number, y: number, width: number, height: number): Line {
  const [at, along, end] = down ? [x, y, height] : [y, x, width]
  let from = 0
  let until = end
  for (const l of lines) {
    if (Boolean(l.down) === down) continue
    const [lineFrom, lineUntil] = [l.from ?? 0, l.until ?? (down ? width : height)]
    if (at < lineFrom || at > lineUntil) continue
    if (l.at <= along) from = Math.max(from, l.at)
    else until = Math.min(until, l.at)
  }
  return { at, down, from: from || undefined, until: until === end ? undefined : until }
}

interface DesignProps {
  record: PictureRecord
  latest: PictureVersion
  map: SliceMap
  height: number
  cut?: SlicedPicture
  chosen: number
  onChoose: (i: number) => void
  onChange: (i: number, line: Partial<Line>) => void
  onRemove: (i: number) => void
  onDraw: (x: number, y: number) => void
}

function Design({ record, latest, map, height, cut, chosen, onChoose, onChange, onRemove, onDraw }: DesignProps) {
  const box = useRef<HTMLDivElement>(null)
  const dragging = useRef(-1)
  const at = (e: PointerEvent) => {
    const r = (box.current ?? e.currentTarget).getBoundingClientRect()
    return [
      Math.round(((e.clientX - r.left) / r.width) * map.width),
      Math.round(((e.clientY - r.top) / r.height) * height),
    ] as const
  }
  const inside = (v: number, side: number) => Math.min(Math.max(v, 1), side - 1)
  const key = (e: KeyboardEvent, i: number, line: Line) => {
    const step = e.shiftKey ? 10 : 1
    const delta = { ArrowLeft: -step, ArrowUp: -step, ArrowRight: step, ArrowDown: step }[e.key]
    if (delta) onChange(i, { at: inside(line.at + delta, line.down ? map.width : height) })
    else if (e.key === 'Delete' || e.key === 'Backspace') onRemove(i)
    else return
    e.preventDefault()
  }
  const percent = (v: number, side: number) => `${(100 * v) / side}%`
  return (
    <Box
      ref={box}
      role="group"
      aria-label="Design"
      sx={{
        position: 'relative',
        lineHeight: 0,
        border: 1,
        borderColor: 'divider',
        cursor: 'crosshair',
        touchAction: 'none',
        maxWidth: 720,
      }}
      onPointerDown={(e) => {
        if (dragging.current < 0) {
          const [x, y] = at(e)
          onDraw(inside(x, map.width), inside(y, height))
        }
      }}
      onPointerMove={(e) => {
        const line = map.lines?.[dragging.current]
        if (!line) return
        const [x, y] = at(e)
        onChange(dragging.current, { at: line.down ? inside(x, map.width) : inside(y, height) })
      }}
      onPointerUp={() => {
        dragging.current = -1
      }}
    >
      <img
        src={pictureView(record.name, latest.number)}
        alt=""
        draggable={false}
        style={{ width: '100%', aspectRatio: `${latest.facts.width} / ${latest.facts.height}` }}
      />
      {(map.lines ?? []).map((l, i) => (
        <Box
          key={i}
          tabIndex={0}
          role="separator"
          aria-orientation={l.down ? 'vertical' : 'horizontal'}
          aria-valuenow={l.at}
          aria-valuemin={1}
          aria-valuemax={(l.down ? map.width : height) - 1}
          aria-label={`Line ${i + 1}, ${l.down ? 'down' : 'across'} at ${l.at} px`}
          onKeyDown={(e) => key(e, i, l)}
          onFocus={() => onChoose(i)}
          onPointerDown={(e) => {
            e.stopPropagation()
            dragging.current = i
            onChoose(i)
            box.current?.setPointerCapture(e.pointerId)
          }}
          sx={{
            position: 'absolute',
            cursor: l.down ? 'col-resize' : 'row-resize',
            outline: 'none',
            ...(l.down
              ? {
                  left: `calc(${percent(l.at, map.width)} - 5px)`,
                  width: 11,
                  top: percent(l.from ?? 0, height),
                  height: percent((l.until ?? height) - (l.from ?? 0), height),
                }
              : {
                  top: `calc(${percent(l.at, height)} - 5px)`,
                  height: 11,
                  left: percent(l.from ?? 0, map.width),
                  width: percent((l.until ?? map.width) - (l.from ?? 0), map.width),
                }),
            '&::after': {
              content: '""',
              position: 'absolute',
              bgcolor: chosen === i ? 'warning.main' : '#ffffff',
              outline: '1px solid #26211d',
              ...(l.down ? { left: 4, width: 3, top: 0, bottom: 0 } : { top: 4, height: 3, left: 0, right: 0 }),
            },
            '&:focus-visible::after': { outline: '3px solid', outlineColor: 'primary.main' },
          }}
        />
      ))}
      {(cut?.pieces ?? []).map((p, i) => (
        <Box
          key={i}
          aria-hidden="true"
          sx={{
            position: 'absolute',
            left: percent(p.x, map.width),
            top: percent(p.y, height),
            m: '6px',
            px: 0.7,
            lineHeight: 1.5,
            fontSize: 13,
            fontWeight: 600,
            bgcolor: '#fffdf8',
            color: '#26211d',
            border: '1px solid #26211d',
            pointerEvents: 'none',
          }}
        >
          {i + 1}
        </Box>
      ))}
    </Box>
  )
}

/** Each piece with what it leads to and what it says. */
function Pieces({
  cut,
  map,
  onLabel,
}: {
  cut: SlicedPicture
  map: SliceMap
  onLabel: (pieces: SliceMap['pieces']) => void
}) {
  const labels = map.pieces ?? []
  const inside = (l: { x: number; y: number }, p: SlicedPicture['pieces'][number]) =>
    l.x >= p.x && l.x < p.x + p.width && l.y >= p.y && l.y < p.y + p.height
  return (
    <>
      <Typography variant="h2">
        {count(cut.pieces.length, 'piece', 'pieces')}, {cut.width} × {cut.height} px,{' '}
        {weight(cut.pieces.reduce((sum, p) => sum + p.bytes, 0))}
      </Typography>
      <Box component="ol" aria-label="Pieces" sx={{ listStyle: 'none', m: 0, p: 0 }}>
        {cut.pieces.map((p, i) => {
          const label = labels.find((l) => inside(l, p))
          const set = (change: { link?: string; alt?: string }) => {
            const next = {
              x: label?.x ?? p.x + Math.floor(p.width / 2),
              y: label?.y ?? p.y + Math.floor(p.height / 2),
              link: label?.link,
              alt: label?.alt,
              ...change,
            }
            onLabel([...labels.filter((l) => !inside(l, p)), next])
          }
          return (
            <Box component="li" key={`${p.x},${p.y}`} sx={{ py: 1.2, borderTop: 1, borderColor: 'divider' }}>
              <Box sx={{ display: 'flex', gap: 1, alignItems: 'baseline', mb: 0.8, flexWrap: 'wrap' }}>
                <b>{i + 1}</b>
                <span>
                  {p.width} × {p.height} px
                </span>
                <Typography variant="body2" color="text.secondary">
                  {p.plain ? `the cell’s background, ${p.plain}` : weight(p.bytes)}
                </Typography>
                {p.letters && <Severity of="note">seems to hold text: better typed</Severity>}
              </Box>
              <Box sx={{ display: 'flex', gap: 1 }}>
                <TextField
                  size="small"
                  label={`Link of piece ${i + 1}`}
                  value={label?.link ?? ''}
                  onChange={(e) => set({ link: e.target.value })}
                  sx={{ flex: 1 }}
                />
                <TextField
                  size="small"
                  label={`Alternative text of piece ${i + 1}`}
                  value={label?.alt ?? ''}
                  onChange={(e) => set({ alt: e.target.value })}
                  sx={{ flex: 1 }}
                />
              </Box>
            </Box>
          )
        })}
      </Box>
    </>
  )
}

/** The pieces in their table, and its source. */
function Joined({ cut }: { cut: SlicedPicture }) {
  return (
    <Box sx={{ mt: 3 }}>
      <Typography variant="h2" sx={{ mb: 1 }}>
        Joined
      </Typography>
      <iframe
        title="The pieces in their table"
        sandbox=""
        srcDoc={`<!doctype html><body style="margin:8px;background:#fff">${cut.look}</body>`}
        style={{ border: '1px solid #dcd2c3', width: '100%', height: cut.height + 24, background: '#ffffff' }}
      />
      <SourceBox label="Table" height={200}>
        {cut.table}
      </SourceBox>
    </Box>
  )
}
