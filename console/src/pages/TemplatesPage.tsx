import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import Link from '@mui/material/Link'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as RouterLink, useNavigate } from 'react-router'
import { api, type TemplateSummary } from '../api/api'
import { count, Page, PageHead, Severity, Trouble, when } from './parts'

export function TemplatesPage() {
  const templates = useQuery({ queryKey: ['templates'], queryFn: api.templates })
  const [asking, setAsking] = useState(false)
  return (
    <Page>
      <PageHead title="Templates" actions={<Button variant="contained" onClick={() => setAsking(true)}>New template</Button>}>
        Each one is a signature as source. The state says what the checks find for all clients and everybody in the directory.
      </PageHead>
      <Trouble error={templates.error} />
      {templates.data?.length === 0 && <Typography>There is no template yet. Make a new one, or push a folder with missivum template push.</Typography>}
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
          <TableBody>{templates.data.map((t) => <TemplateRow key={t.name} template={t} />)}</TableBody>
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
        <Typography variant="body2" color="text.secondary">{t.about || t.name}</Typography>
      </TableCell>
      <TableCell>
        <StateWords template={t} />
      </TableCell>
      <TableCell>{t.variants.join(', ')}</TableCell>
      <TableCell>
        {t.number}
        <Typography variant="body2" color="text.secondary">{when(t.saved)}</Typography>
      </TableCell>
    </TableRow>
  )
}

function StateWords({ template: { state } }: { template: TemplateSummary }) {
  const lines = []
  if (state.breaks > 0) lines.push(<Severity key="b" of="breaks">{count(state.breaks, 'finding breaks', 'findings break')}</Severity>)
  if (state.burst > 0) lines.push(<Severity key="u" of="breaks">{count(state.burst, 'budget is burst', 'budgets are burst')}</Severity>)
  if (state.degrades > 0) lines.push(<Severity key="d" of="degrades">{count(state.degrades, 'degrades', 'degrade')}</Severity>)
  if (!state.fails) lines.unshift(<Severity key="f" of="fine">Nothing breaks</Severity>)
  return <Box sx={{ display: 'flex', flexDirection: 'column' }}>{lines}</Box>
}

const beginning = `<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<title>Signature</title>
</head>
<body>
<table role="presentation" cellpadding="0" cellspacing="0" border="0" style="font-family: Verdana, Geneva, sans-serif; font-size: 13px; line-height: 18px; color: #20343d">
  <tr><td style="font-weight: bold">{{ cn }}</td></tr>
  <tr data-needs="title"><td>{{ title }}</td></tr>
  <tr data-needs="telephoneNumber"><td><a href="tel:{{ telephoneNumber | dial }}">{{ telephoneNumber | phone }}</a></td></tr>
  <tr><td><a href="mailto:{{ mail }}">{{ mail }}</a></td></tr>
</table>
</body>
</html>
`

function NewTemplate({ onClose }: { onClose: () => void }) {
  const navigate = useNavigate()
  const [name, setName] = useState('')
  const create = useMutation({
    mutationFn: () => api.save(name, { source: beginning, settings: `title: ${JSON.stringify(name)}\nlanguage: en\n`, note: 'Begun', base: 0 }),
    onSuccess: () => navigate(`/templates/${name}`),
  })
  return (
    <Dialog open onClose={onClose} aria-labelledby="new-template">
      <DialogTitle id="new-template">New template</DialogTitle>
      <Box component="form" onSubmit={(e) => { e.preventDefault(); create.mutate() }}>
        <DialogContent sx={{ pt: 0 }}>
          <TextField
            autoFocus fullWidth label="Name" value={name} onChange={(e) => setName(e.target.value)} margin="dense"
            helperText="Lower-case letters, digits and hyphens, such as winter-crew"
          />
          <Trouble error={create.error} />
        </DialogContent>
        <DialogActions>
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" variant="contained" disabled={!name || create.isPending}>Make the template</Button>
        </DialogActions>
      </Box>
    </Dialog>
  )
}
