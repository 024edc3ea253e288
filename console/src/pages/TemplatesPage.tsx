import Box from '@mui/material/Box'
import Link from '@mui/material/Link'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as RouterLink } from 'react-router'
import { Act, Lacking } from '../access/session'
import { api, type TemplateSummary } from '../api/api'
import { NewTemplate } from './NewTemplate'
import { count, Page, PageHead, Severity, Trouble, when } from './parts'

export function TemplatesPage() {
  const templates = useQuery({
    queryKey: ['templates'],
    queryFn: api.templates,
    refetchInterval: (q) => (q.state.data?.some((t) => t.state.pending) ? 400 : false),
  })
  const [asking, setAsking] = useState(false)
  return (
    <Page>
      <PageHead
        title="Templates"
        actions={
          <Act needs="templates" variant="contained" onClick={() => setAsking(true)}>
            New template
          </Act>
        }
      >
        Each template is a signature as source. Its state is what the checks find for all clients and everybody in the
        directory. A client is safe when nothing breaks there and no limit is exceeded.
      </PageHead>
      <Lacking permission="templates">Saving templates</Lacking>
      <Trouble error={templates.error} />
      {templates.data?.length === 0 && (
        <Typography>There is no template yet. Make a new one, or push a folder with missivum template push.</Typography>
      )}
      {templates.data && templates.data.length > 0 && (
        <Table aria-label="Templates">
          <TableHead>
            <TableRow>
              <TableCell>Template</TableCell>
              <TableCell>State</TableCell>
              <TableCell>Variants</TableCell>
              <TableCell>Version</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {templates.data.map((t) => (
              <TemplateRow key={t.name} template={t} />
            ))}
          </TableBody>
        </Table>
      )}
      {asking && <NewTemplate onClose={() => setAsking(false)} />}
    </Page>
  )
}

function TemplateRow({ template: t }: { template: TemplateSummary }) {
  return (
    <TableRow sx={{ verticalAlign: 'top' }}>
      <TableCell sx={{ maxWidth: 420 }}>
        <Link component={RouterLink} to={`/templates/${t.name}`} sx={{ fontWeight: 600, fontSize: '1.05rem' }}>
          {t.title}
        </Link>
        <Typography variant="body2" color="text.secondary">
          {t.about || t.name}
        </Typography>
      </TableCell>
      <TableCell>
        <StateWords template={t} />
      </TableCell>
      <TableCell>{t.variants.join(', ')}</TableCell>
      <TableCell>
        {t.number}
        <Typography variant="body2" color="text.secondary">
          {when(t.saved)}
        </Typography>
      </TableCell>
    </TableRow>
  )
}

function StateWords({ template: { state, problem } }: { template: TemplateSummary }) {
  if (problem) return <Severity of="breaks">{`It cannot be checked: ${problem}`}</Severity>
  if (state.pending) return <Typography color="text.secondary">Being checked ...</Typography>
  const lines = []
  if (state.breaks > 0)
    lines.push(
      <Severity key="b" of="breaks">
        {count(state.breaks, 'finding breaks', 'findings break')}
      </Severity>,
    )
  if (state.overLimit > 0)
    lines.push(
      <Severity key="u" of="breaks">
        {count(state.overLimit, 'limit exceeded', 'limits exceeded')}
      </Severity>,
    )
  if (state.degrades > 0)
    lines.push(
      <Severity key="d" of="degrades">
        {count(state.degrades, 'degrades', 'degrade')}
      </Severity>,
    )
  if (!state.fails)
    lines.unshift(
      <Severity key="f" of="fine">
        Nothing breaks
      </Severity>,
    )
  return (
    <Box sx={{ display: 'flex', flexDirection: 'column' }}>
      {lines}
      <Typography variant="body2" color="text.secondary">
        {state.verdict}
      </Typography>
    </Box>
  )
}
