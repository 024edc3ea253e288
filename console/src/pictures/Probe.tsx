import Box from '@mui/material/Box'
import Typography from '@mui/material/Typography'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, pictureView, type PictureFacts, type PictureRecord, type PictureVersion } from '../api/api'
import { count, grouped, Severity, Trouble } from '../pages/parts'
import { usePaused } from '../workbench/paused'
import { checkered, OnBackgrounds, weight } from './facts'
import { NumberField } from './fields'

/** What a picture is and what will go wrong with it where. */
export function Probe({ record, latest }: { record: PictureRecord; latest: PictureVersion }) {
  const [width, setWidth] = useState(0)
  const asked = usePaused(width, 300)
  const probe = useQuery({
    queryKey: ['probe', record.name, latest.number, asked],
    queryFn: () => api.probe(record.name, asked, 0),
    placeholderData: keepPreviousData,
  })
  const src = pictureView(record.name, latest.number)
  return (
    <Box sx={{ display: 'grid', gridTemplateColumns: { xs: '1fr', md: 'minmax(0, 1fr) minmax(0, 1fr)' }, gap: 4 }}>
      <Box>
        <Box sx={{ ...checkered, border: 1, borderColor: 'divider', display: 'flex', justifyContent: 'center', p: 2 }}>
          <img src={src} alt={record.alts['en'] ?? record.name} style={{ maxWidth: '100%', maxHeight: 380 }} />
        </Box>
        <FactList facts={latest.facts} />
        {probe.data && probe.data.notes.length > 0 && (
          <Typography variant="body2" color="text.secondary">
            A rendition of it is: {probe.data.notes.join('; ')}.
          </Typography>
        )}
      </Box>
      <Box>
        <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', mb: 1.5 }}>
          <Typography variant="h2" sx={{ flex: 1 }}>
            What will go wrong
          </Typography>
          <NumberField
            label="Shown at, px wide"
            value={width}
            onChange={setWidth}
            width={170}
            placeholder="true pixels"
          />
        </Box>
        <Trouble error={probe.error} />
        {probe.data && (
          <>
            <Typography role="status">
              {probe.data.findings.length === 0 ? (
                <Severity of="fine">Nothing, in any client</Severity>
              ) : (
                count(probe.data.findings.length, 'finding', 'findings')
              )}
            </Typography>
            <Box component="ol" aria-label="Findings" sx={{ listStyle: 'none', m: 0, p: 0 }}>
              {probe.data.findings.map((f) => (
                <Box component="li" key={f.check + f.message} sx={{ py: 1.2, borderTop: 1, borderColor: 'divider' }}>
                  <Severity of={f.severity as 'breaks' | 'degrades' | 'note'} /> {f.message}
                  <Typography variant="body2" color="text.secondary">
                    {f.clients.join(', ')}. {f.remedy}
                  </Typography>
                </Box>
              ))}
            </Box>
            {probe.data.sights.length > 0 && (
              <>
                <Typography variant="h2" sx={{ mt: 3, mb: 1 }}>
                  On a dark background
                </Typography>
                <OnBackgrounds sights={probe.data.sights} src={src} label={record.name} />
              </>
            )}
            <Typography variant="h2" sx={{ mt: 3, mb: 0.5 }}>
              How many pixels for each px
            </Typography>
            <Box component="ul" sx={{ m: 0, pl: 2.5 }}>
              {probe.data.multiples.map((m) => (
                <li key={m.client}>
                  <b>{m.client}</b>: {m.multiple}, since {m.says}
                </li>
              ))}
            </Box>
          </>
        )}
      </Box>
    </Box>
  )
}

function FactList({ facts: f }: { facts: PictureFacts }) {
  const rows: [string, string][] = [
    ['Format', `${f.format.toUpperCase()}, ${f.colours}, ${f.depth} bits a channel`],
    ['True pixels', `${grouped(f.width)} × ${grouped(f.height)}`],
    ['Weight', `${weight(f.bytes)} (${grouped(f.bytes)} bytes)`],
    ['Resolution tag', f.resolution > 0 ? `${f.resolution} pixels per inch` : 'none'],
    ['Colour profile', f.profile || 'none: taken for sRGB'],
    ['Transparency', f.transparent ? 'parts can be seen through' : 'none'],
    ['Frames', f.frames > 1 ? `${f.frames}: it moves` : '1'],
    ['Holds besides', f.holds.length > 0 ? `${f.holds.join(', ')}; left out of every rendition` : 'nothing'],
  ]
  return (
    <Box
      component="dl"
      sx={{
        display: 'grid',
        gridTemplateColumns: 'max-content 1fr',
        columnGap: 3,
        rowGap: 0.5,
        my: 2,
        '& dt': { color: 'text.secondary' },
        '& dd': { m: 0 },
      }}
    >
      {rows.map(([name, value]) => (
        <Box key={name} sx={{ display: 'contents' }}>
          <dt>{name}</dt>
          <dd>{value}</dd>
        </Box>
      ))}
    </Box>
  )
}
