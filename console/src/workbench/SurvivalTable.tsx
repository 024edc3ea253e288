import Box from '@mui/material/Box'
import ButtonBase from '@mui/material/ButtonBase'
import Typography from '@mui/material/Typography'
import type { MapCell, MapRow } from '../api/api'
import { Trouble } from '../pages/parts'
import type { Bytes } from './LookFrame'
import { useMap } from './questions'
import type { Revision } from './state'

const signs: Record<MapCell['state'], string> = { kept: '=', changed: '~', dropped: '×', refused: '!', 'no markup': '' }
const colours: Record<string, string> = { breaks: 'error.main', degrades: 'warning.main', note: 'text.secondary' }

/** What becomes of each construct in each client, the most harmful first. A row leads to its place, a cell to what becomes of it in that client. */
export function SurvivalTable({
  template,
  revision,
  onGo,
  onCell,
}: {
  template: string
  revision: Revision
  onGo: (place: Bytes) => void
  onCell: (client: string, row: MapRow, cell: MapCell) => void
}) {
  const map = useMap(template, revision)
  if (map.error)
    return (
      <Box sx={{ p: 1.5 }}>
        <Trouble error={map.error} />
      </Box>
    )
  if (!map.data) return <Typography sx={{ p: 1.5 }}>Sending it through every client ...</Typography>
  const { clients, rows } = map.data
  return (
    <>
      <Typography sx={{ px: 1.5, pt: 1, fontWeight: 580 }}>{map.data.verdict.says}</Typography>
      <Typography variant="body2" color="text.secondary" sx={{ px: 1.5 }}>
        Safe: nothing breaks there, and no limit is exceeded.
      </Typography>
      <Box
        component="table"
        aria-label="Survival map"
        sx={{
          borderCollapse: 'collapse',
          width: '100%',
          fontSize: 13,
          '& th, & td': { borderBottom: 1, borderColor: 'divider', p: 0.4, textAlign: 'center' },
        }}
      >
        <thead>
          <tr>
            <Box
              component="th"
              scope="col"
              sx={{ textAlign: 'left !important', pl: '12px !important', verticalAlign: 'bottom', fontWeight: 580 }}
            >
              <span>= kept&ensp;~ changed&ensp;× dropped&ensp;! refused</span>
            </Box>
            {clients.map((id) => (
              <Box component="th" scope="col" key={id} sx={{ height: 108, verticalAlign: 'bottom', fontWeight: 400 }}>
                <Box
                  component="span"
                  sx={{ writingMode: 'vertical-rl', transform: 'rotate(180deg)', whiteSpace: 'nowrap' }}
                >
                  {id}
                </Box>
              </Box>
            ))}
            <Box component="th" scope="col" sx={{ verticalAlign: 'bottom', fontWeight: 580 }}>
              Harm
            </Box>
          </tr>
        </thead>
        <tbody>
          {rows.map((row, i) => (
            <tr key={`${row.offset} ${i}`}>
              <Box component="th" scope="row" sx={{ textAlign: 'left !important', fontWeight: 400, maxWidth: 260 }}>
                <ButtonBase
                  onClick={() => onGo({ start: row.offset, end: row.end })}
                  title={row.what}
                  sx={{
                    font: 'inherit',
                    px: 1,
                    display: 'block',
                    textAlign: 'left',
                    width: '100%',
                    overflow: 'hidden',
                    textOverflow: 'ellipsis',
                    whiteSpace: 'nowrap',
                  }}
                >
                  {row.line}&ensp;{row.what}
                  {row.count > 1 && ` (${row.count} times)`}
                </ButtonBase>
              </Box>
              {row.cells.map((cell, k) => (
                <td key={clients[k]}>
                  {signs[cell.state] && (
                    <ButtonBase
                      aria-label={`${row.what} in ${clients[k]}: ${cell.state}`}
                      title={[cell.state, cell.says, cell.basis].filter(Boolean).join(' · ')}
                      onClick={() => onCell(clients[k] ?? '', row, cell)}
                      sx={{
                        font: 'inherit',
                        fontWeight: 700,
                        width: 24,
                        height: 24,
                        color: cell.state === 'kept' ? 'text.disabled' : colours[cell.severity ?? 'note'],
                      }}
                    >
                      {signs[cell.state]}
                    </ButtonBase>
                  )}
                </td>
              ))}
              <td>{Math.round(row.harm)}</td>
            </tr>
          ))}
        </tbody>
      </Box>
    </>
  )
}
