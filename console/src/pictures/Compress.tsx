import Box from '@mui/material/Box'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import Typography from '@mui/material/Typography'
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Act } from '../access/session'
import { api, type PictureRecord, type PictureVersion } from '../api/api'
import { grouped, Trouble } from '../pages/parts'
import { usePaused } from '../workbench/paused'
import { checkered, Outcome } from './facts'
import { FormatField, NumberField } from './fields'

/** Before, after and difference side by side, and all that was tried. */
export function Compress({ record, latest }: { record: PictureRecord; latest: PictureVersion }) {
  const queries = useQueryClient()
  const [format, setFormat] = useState('')
  const [limit, setLimit] = useState(0)
  const weight = usePaused({ format: format || undefined, limit: limit || undefined }, 300)
  const made = useQuery({
    queryKey: ['compress', record.name, latest.number, weight],
    queryFn: ({ signal }) => api.compress(record.name, weight, false, signal),
    placeholderData: keepPreviousData,
    gcTime: 60_000,
  })
  const keep = useMutation({
    mutationFn: () => api.compress(record.name, weight, true),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['picture', record.name] }),
  })
  const data = made.data
  return (
    <>
      <Box sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap', alignItems: 'flex-start', mb: 2 }}>
        <FormatField value={format} onChange={setFormat} />
        <NumberField
          label="At most, bytes"
          value={limit}
          onChange={setLimit}
          max={32_000_000}
          helperText="blank: no limit"
        />
        <Act needs="pictures" variant="contained" disabled={!data || keep.isPending} onClick={() => keep.mutate()}>
          Keep the lighter file
        </Act>
        <Typography variant="body2" role="status" sx={{ pt: 1 }}>
          {keep.data && (
            <>
              Kept as <code>{keep.data.key}</code>
            </>
          )}
        </Typography>
      </Box>
      <Trouble error={made.error ?? keep.error} />
      {!data && !made.error && <Typography>Trying what is lighter ...</Typography>}
      {data && (
        <Box sx={{ opacity: made.isPlaceholderData ? 0.6 : 1 }}>
          <Box
            sx={{ display: 'grid', gridTemplateColumns: { xs: '1fr', md: 'repeat(3, minmax(0, 1fr))' }, gap: 2, mb: 2 }}
          >
            {(
              [
                ['Before', data.exact],
                ['After', data.image],
                ['Difference, eight times as strong', data.differs],
              ] as const
            ).map(([label, src]) => (
              <Box key={label} component="figure" sx={{ m: 0 }}>
                <Box
                  sx={{
                    ...checkered,
                    border: 1,
                    borderColor: 'divider',
                    lineHeight: 0,
                    overflow: 'auto',
                    maxHeight: 340,
                  }}
                  tabIndex={0}
                  role="group"
                  aria-label={label}
                >
                  <img src={src} alt={`${label}: ${record.name}`} style={{ maxWidth: '100%' }} />
                </Box>
                <figcaption>{label}</figcaption>
              </Box>
            ))}
          </Box>
          <Outcome made={data} />
          <Table size="small" aria-label="Tried" sx={{ mt: 2, maxWidth: 640 }}>
            <TableHead>
              <TableRow>
                <TableCell>Tried</TableCell>
                <TableCell align="right">Bytes</TableCell>
                <TableCell align="right">Difference</TableCell>
                <TableCell />
              </TableRow>
            </TableHead>
            <TableBody>
              {data.trials.map((t) => (
                <TableRow key={t.way} selected={t.chosen}>
                  <TableCell>{t.way}</TableCell>
                  <TableCell align="right">{grouped(t.bytes)}</TableCell>
                  <TableCell align="right">{t.difference.toFixed(4)}</TableCell>
                  <TableCell>{t.chosen && <b>chosen</b>}</TableCell>
                </TableRow>
              ))}
            </TableBody>
          </Table>
        </Box>
      )}
    </>
  )
}
