import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import ButtonBase from '@mui/material/ButtonBase'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, type Budget, type Report, type Space } from '../api/api'
import { grouped, Trouble } from '../pages/parts'
import type { Bytes } from './LookFrame'
import { useSpace } from './questions'
import type { Revision } from './state'

const kinds = ['text', 'styles', 'structure', 'addresses'] as const
type Kind = (typeof kinds)[number]
const marks: Record<Kind, string> = {
  text: 'success.main',
  styles: 'primary.main',
  structure: 'secondary.main',
  addresses: 'warning.main',
}
const rowHeight = 24

/** Whether a limit is one of somebody's own characters; a host's block, the same for everybody, is written in its own placeholders. */
export function hasSpace(b: Budget, people: number): boolean {
  return b.measure === 'characters' && (b.person !== '' || people === 0)
}

interface Props {
  template: string
  revision: Revision
  report: Report
  client: string
  onClient: (id: string) => void
  onShrink: (client: string) => void
  onGo: (place: Bytes) => void
}

/** What takes up the space in the worst person's signature as a client stores it: by kind, and by element, each leading to its place. */
export function SpaceDrawing({ template, revision, report, client, onClient, onShrink, onGo }: Props) {
  const budgets = report.budgets.filter((b) => hasSpace(b, report.people))
  const budget = budgets.find((b) => b.client === client) ?? budgets[0]
  if (!budget)
    return (
      <Typography sx={{ p: 1.5 }}>No client here stores somebody's own signature and limits its characters.</Typography>
    )
  return (
    <Box sx={{ px: 1.5, py: 1 }}>
      <Box sx={{ display: 'flex', gap: 1.5, alignItems: 'center', flexWrap: 'wrap', mb: 1 }}>
        <TextField
          select
          size="small"
          label="As stored by"
          value={budget.client}
          onChange={(e) => onClient(e.target.value)}
          sx={{ width: 180, mt: 0.5 }}
        >
          {budgets.map((b) => (
            <MenuItem key={b.client} value={b.client}>
              {b.client}
            </MenuItem>
          ))}
        </TextField>
        <Typography
          sx={{ flex: 1, minWidth: 200 }}
        >{`${grouped(budget.value)} of ${grouped(budget.limit)} characters: ${budget.person || 'the same for everybody'}, ${budget.variant}`}</Typography>
        <Button size="small" variant="outlined" onClick={() => onShrink(budget.client)}>
          Shrink
        </Button>
      </Box>
      <Elements
        key={`${budget.client} ${budget.person} ${budget.variant}`}
        template={template}
        revision={revision}
        budget={budget}
        onGo={onGo}
      />
      <RealPaste template={template} revision={revision} budget={budget} />
    </Box>
  )
}

function Elements({
  template,
  revision,
  budget: b,
  onGo,
}: {
  template: string
  revision: Revision
  budget: Budget
  onGo: (place: Bytes) => void
}) {
  const [kind, setKind] = useState<Kind | ''>('')
  const measured = useSpace(template, revision, b)
  if (measured.error) return <Trouble error={measured.error} />
  if (!measured.data) return <Typography>Measuring ...</Typography>
  const space = measured.data
  const total = kind ? (space.kinds[kind] ?? 0) : space.units
  const boxes = laidOut(space, kind)
  const deepest = boxes.reduce((most, box) => Math.max(most, box.row), 0)
  return (
    <>
      <Box role="group" aria-label="Kinds" sx={{ display: 'flex', height: 26, mb: 0.5 }}>
        {kinds.map((k) => (
          <ButtonBase
            key={k}
            aria-pressed={kind === k}
            onClick={() => setKind(kind === k ? '' : k)}
            title={`${k}: ${grouped(space.kinds[k] ?? 0)} characters`}
            sx={{
              flexGrow: space.kinds[k] ?? 0,
              flexBasis: 0,
              minWidth: 100,
              overflow: 'hidden',
              font: 'inherit',
              fontSize: 12.5,
              px: 0.6,
              justifyContent: 'flex-start',
              whiteSpace: 'nowrap',
              borderTop: 4,
              borderColor: marks[k],
              bgcolor: kind === k ? 'action.selected' : 'background.default',
            }}
          >
            {`${k} ${share(space.kinds[k] ?? 0, space.units)}`}
          </ButtonBase>
        ))}
      </Box>
      <Typography variant="body2" color="text.secondary" sx={{ mb: 0.5 }}>
        {`Each bar is an element with its content, as wide as its share of ${kind ? `the ${kind}` : 'all characters'}; the elements in it are below. Click a bar to go to the source.`}
      </Typography>
      <Box
        role="group"
        aria-label="What takes up the space"
        sx={{ position: 'relative', height: (deepest + 1) * rowHeight, minWidth: 300 }}
      >
        {boxes.map((box) => (
          <ButtonBase
            key={box.index}
            title={box.title}
            aria-label={box.title}
            onClick={() => onGo(box.place)}
            sx={{
              position: 'absolute',
              top: box.row * rowHeight,
              height: rowHeight - 2,
              left: `${(100 * box.from) / total}%`,
              width: `calc(${(100 * box.size) / total}% - 1px)`,
              minWidth: 3,
              justifyContent: 'flex-start',
              overflow: 'hidden',
              whiteSpace: 'nowrap',
              font: 'inherit',
              fontSize: 12,
              px: box.size / total > 0.03 ? 0.5 : 0,
              bgcolor: 'background.default',
              borderLeft: 3,
              borderColor: marks[box.most],
              '&:hover, &:focus-visible': { bgcolor: 'action.selected', zIndex: 1 },
            }}
          >
            {box.size / total > 0.03 && (
              <Box component="span" sx={{ overflow: 'hidden', textOverflow: 'ellipsis' }}>
                {box.label}
              </Box>
            )}
          </ButtonBase>
        ))}
      </Box>
    </>
  )
}

interface Laid {
  index: number
  row: number
  from: number
  size: number
  most: Kind
  label: string
  title: string
  place: Bytes
}

/** The elements as bars: each below the one it stands in, beside those before it. What has less than a two-hundredth is left out. */
function laidOut(space: Space, kind: Kind | ''): Laid[] {
  const size = (e: Space['elements'][number]) => (kind ? (e.kinds[kind] ?? 0) : e.units)
  const total = kind ? (space.kinds[kind] ?? 0) : space.units
  const next: number[] = [0] // where the next element of each depth begins
  const boxes: Laid[] = []
  space.elements.forEach((e, index) => {
    const from = next[e.depth] ?? 0
    next[e.depth] = from + size(e)
    next[e.depth + 1] = from
    if (size(e) * 200 < total || size(e) === 0) return
    const most =
      kind || kinds.reduce((best, k) => ((e.kinds[k] ?? 0) > (e.kinds[best] ?? 0) ? k : best), 'text' as Kind)
    const own = kind ? '' : `, its own tags ${grouped(e.own)}`
    boxes.push({
      index,
      row: e.depth,
      from,
      size: size(e),
      most,
      label: `${e.name} ${grouped(size(e))}`,
      title: `Line ${e.line}, ${e.name}: ${grouped(size(e))} characters${kind && ` of ${kind}`}${own}, most of it ${most}${e.text && `. ${e.text}`}`,
      place: { start: e.offset, end: e.end },
    })
  })
  return boxes
}

function share(part: number, whole: number): string {
  return `${whole === 0 ? 0 : Math.round((100 * part) / whole)} %`
}

/** The predicted length of the paste beside that of a real one, for clients that are pasted into. */
function RealPaste({
  template,
  revision: { draft },
  budget: b,
}: {
  template: string
  revision: Revision
  budget: Budget
}) {
  const clients = useQuery({ queryKey: ['clients'], queryFn: api.clients, staleTime: Infinity })
  const paste = useMutation({
    mutationFn: () => api.paste(template, { ...draft, variant: b.variant, person: b.person }),
  })
  if (clients.data?.find((c) => c.id === b.client)?.install.way !== 'paste-rendered') return null
  const r = paste.data
  return (
    <Box sx={{ mt: 1.5, display: 'flex', gap: 1.5, alignItems: 'center', flexWrap: 'wrap' }}>
      <Button size="small" variant="outlined" onClick={() => paste.mutate()} disabled={paste.isPending}>
        Measure a real paste
      </Button>
      <Typography variant="body2" role="status" sx={{ flex: 1, minWidth: 220 }}>
        {paste.isPending
          ? 'Chromium copies and pastes ...'
          : r
            ? `Copied and pasted by Chromium: ${grouped(r.measured)} characters; predicted ${grouped(r.predicted)}, ${apart(r.predicted, r.measured)}. A browser with the Gecko engine would make ${grouped(r.inGecko)} of it. All are counted before this client drops anything.`
            : 'The figure above is predicted; the installed Chromium can copy and paste it for real.'}
      </Typography>
      <Trouble error={paste.error} />
    </Box>
  )
}

function apart(predicted: number, measured: number): string {
  const off = measured === 0 ? 0 : (100 * (predicted - measured)) / measured
  return off === 0 ? 'the same' : `${Math.abs(off).toFixed(2)} % ${off > 0 ? 'more' : 'less'}`
}
