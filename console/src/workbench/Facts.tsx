import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import ButtonBase from '@mui/material/ButtonBase'
import Typography from '@mui/material/Typography'
import type { Budget, Finding, Look, Report } from '../api/api'
import { count, grouped, Severity } from '../pages/parts'
import { hasSpace } from './SpaceDrawing'

/** All findings; a press leads to the line. */
export function FindingsList({
  report,
  onGo,
  onFix,
}: {
  report: Report
  onGo: (f: Finding) => void
  onFix?: (f: Finding) => void
}) {
  if (report.findings.length === 0 && report.accepted.length === 0)
    return (
      <>
        <Typography sx={{ p: 1.5 }}>
          <Severity of="fine">Nothing found for any client.</Severity>
        </Typography>
        <ValuesList report={report} />
      </>
    )
  return (
    <>
      <Box component="ol" aria-label="Findings" sx={{ listStyle: 'none', m: 0, p: 0 }}>
        {report.findings.map((f, i) => (
          <Box
            component="li"
            key={`${f.check}-${f.offset}-${i}`}
            sx={{ borderBottom: 1, borderColor: 'divider', display: 'flex', alignItems: 'flex-start' }}
          >
            <ButtonBase
              onClick={() => onGo(f)}
              sx={{
                display: 'grid',
                gridTemplateColumns: '64px 92px minmax(0, 1fr)',
                columnGap: 1,
                textAlign: 'left',
                width: '100%',
                font: 'inherit',
                px: 1.5,
                py: 0.8,
                alignItems: 'baseline',
                '&:hover, &:focus-visible': { bgcolor: 'action.hover' },
              }}
            >
              <span>Line {f.line}</span>
              <Severity of={f.severity} />
              <Box>
                <Typography component="div">{f.message}</Typography>
                <Typography component="div" variant="body2" color="text.secondary">
                  {f.fix
                    ? `Fix: ${f.fix.title}${f.fix.safe ? '' : `. This costs something: ${f.fix.costs}`}`
                    : f.remedy}
                </Typography>
                <Typography component="div" variant="body2" color="text.secondary">
                  {f.check} ·{' '}
                  {f.clients.length > 1 && f.clients.length === report.verdict.markup
                    ? 'every client that shows markup'
                    : f.clients.join(', ')}
                  {f.basis && ` · ${f.basis}`}
                </Typography>
              </Box>
            </ButtonBase>
            {f.fix && onFix && (
              <Button
                size="small"
                onClick={() => onFix(f)}
                aria-label={`Fix line ${f.line}, ${f.check}`}
                sx={{ mt: 0.5, mr: 0.5, flexShrink: 0 }}
              >
                Fix
              </Button>
            )}
          </Box>
        ))}
        {report.accepted.map((f, i) => (
          <Box
            component="li"
            key={`accepted-${f.offset}-${i}`}
            sx={{ borderBottom: 1, borderColor: 'divider', px: 1.5, py: 0.8 }}
          >
            <Typography variant="body2" color="text.secondary">
              Line {f.line}, {f.check}, accepted: {f.accepted}
            </Typography>
          </Box>
        ))}
      </Box>
      <ValuesList report={report} />
    </>
  )
}

/** Which values do not come from the directory, and where each comes from. */
function ValuesList({ report }: { report: Report }) {
  const named = report.values.filter((v) => v.name.includes('.') || v.from === 'organisation')
  if (named.length === 0) return null
  return (
    <Box component="details" sx={{ px: 1.5, py: 1, '& summary': { cursor: 'pointer', color: 'text.secondary' } }}>
      <summary>{count(named.length, 'value', 'values')} that do not come from the directory</summary>
      <Box component="ul" aria-label="Values" sx={{ m: 0, pl: 2.5 }}>
        {named.map((v) => (
          <li key={v.name}>
            <b>{v.name}</b> {v.value.length > 80 ? `${v.value.slice(0, 80)} …` : v.value}{' '}
            <Typography component="span" variant="body2" color="text.secondary">
              {v.from === 'organisation' ? 'from the organisation’s settings' : 'from template.yaml'}
            </Typography>
          </li>
        ))}
      </Box>
    </Box>
  )
}

/** Below which share of its limit a budget is folded away. */
const farWithin = 0.5

/** Every limit with the figure of the worst person beside it, the tightest first. Those that nothing comes near are folded. */
export function BudgetGauges({
  report,
  onSpace,
  onShrink,
}: {
  report: Report
  onSpace: (client: string) => void
  onShrink: (client: string) => void
}) {
  if (report.budgets.length === 0)
    return <Typography sx={{ p: 1.5 }}>Budgets are measured once the template has no mistakes.</Typography>
  const gauge = (b: Budget) => (
    <Gauge key={`${b.client} ${b.measure}`} budget={b} people={report.people} onSpace={onSpace} onShrink={onShrink} />
  )
  const near = report.budgets.filter((b) => b.value > b.limit * farWithin)
  const far = report.budgets.filter((b) => b.value <= b.limit * farWithin)
  return (
    <>
      <Box component="ul" aria-label="Budgets" sx={{ listStyle: 'none', m: 0, p: 0 }}>
        {near.map(gauge)}
      </Box>
      {far.length > 0 && (
        <Box component="details" open={near.length === 0}>
          <Box
            component="summary"
            sx={{ px: 1.5, py: 0.8, cursor: 'pointer', color: 'text.secondary' }}
          >{`${count(far.length, 'limit', 'limits')} not half used`}</Box>
          <Box component="ul" aria-label="Budgets far within their limit" sx={{ listStyle: 'none', m: 0, p: 0 }}>
            {far.map(gauge)}
          </Box>
        </Box>
      )}
    </>
  )
}

function Gauge({
  budget: b,
  people,
  onSpace,
  onShrink,
}: {
  budget: Budget
  people: number
  onSpace: (client: string) => void
  onShrink: (client: string) => void
}) {
  const share = b.value / b.limit
  const over = b.value > b.limit
  return (
    <Box component="li" sx={{ px: 1.5, py: 0.8, borderBottom: 1, borderColor: 'divider' }}>
      <Box sx={{ display: 'flex', gap: 1, alignItems: 'baseline' }}>
        <Box component="span" sx={{ fontWeight: 580 }}>
          {b.client}
        </Box>
        <Box component="span" sx={{ color: 'text.secondary', flex: 1 }}>
          {b.measure.replace('-', ' ')}
        </Box>
        <span>
          {grouped(b.value)} of {grouped(b.limit)}
          {b.unit === b.measure ? '' : ` ${b.unit}`}
        </span>
        <Severity of={over ? 'breaks' : 'fine'}>{over ? 'over the limit' : 'within'}</Severity>
      </Box>
      <Box
        role="meter"
        aria-label={`${b.client} ${b.measure}`}
        aria-valuenow={b.value}
        aria-valuemin={0}
        aria-valuemax={b.limit}
        sx={{ height: 5, my: 0.6, bgcolor: 'divider' }}
      >
        <Box
          sx={{
            height: '100%',
            width: `${Math.min(100, share * 100)}%`,
            bgcolor: over ? 'error.main' : share > 0.85 ? 'warning.main' : 'secondary.main',
          }}
        />
      </Box>
      <Box sx={{ display: 'flex', gap: 0.5, alignItems: 'center' }}>
        <Typography
          variant="body2"
          color="text.secondary"
          sx={{ flex: 1, overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: 'nowrap' }}
          title={b.person}
        >
          {b.variant}
          {b.person && `, sample ${grouped(b.sample)}, median ${grouped(b.median)}`}
          {over && people > 0 && `, over the limit for ${grouped(b.over)} of ${grouped(people)}`}:{' '}
          {b.person || (people > 0 ? 'the same for everybody' : 'field names; no people yet')}
        </Typography>
        {b.measure === 'characters' && (
          <>
            {hasSpace(b, people) && (
              <Button
                size="small"
                color="inherit"
                onClick={() => onSpace(b.client)}
                aria-label={`What takes up the space in ${b.client}`}
                sx={small}
              >
                Space
              </Button>
            )}
            <Button
              size="small"
              color="inherit"
              onClick={() => onShrink(b.client)}
              aria-label={`Shrink for ${b.client}`}
              sx={small}
            >
              Shrink
            </Button>
          </>
        )}
      </Box>
    </Box>
  )
}

const small = { minWidth: 0, px: 0.8, py: 0, flexShrink: 0, textDecoration: 'underline', textUnderlineOffset: '3px' }

/** What happened on the way to the chosen client. */
export function JourneyLog({ look }: { look: Look }) {
  if (look.log.length === 0) return <Typography sx={{ p: 1.5 }}>Nothing is changed on the way.</Typography>
  return (
    <Box component="ol" aria-label="Journey" sx={{ listStyle: 'none', m: 0, p: 0 }}>
      {look.log.map((e, i) => (
        <Box component="li" key={i} sx={{ px: 1.5, py: 0.7, borderBottom: 1, borderColor: 'divider' }}>
          <b>{e.stage}</b>, line {e.line}: {e.what} is {e.does}
          {e.says && `: ${e.says}`}{' '}
          <Box component="span" sx={{ color: 'text.secondary' }}>
            ({e.basis})
          </Box>
        </Box>
      ))}
    </Box>
  )
}
