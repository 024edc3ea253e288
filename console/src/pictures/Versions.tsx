import Box from '@mui/material/Box'
import Link from '@mui/material/Link'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as RouterLink } from 'react-router'
import { Act } from '../access/session'
import { api, pictureView, type PictureRecord } from '../api/api'
import { count, Severity, Trouble, when } from '../pages/parts'
import { checkered, inShort } from './facts'

/** Versions, where they are used and what the latest would change there, alternative texts and renditions. */
export function Versions({ record }: { record: PictureRecord }) {
  const queries = useQueryClient()
  const take = useMutation({
    mutationFn: (use: { template: string; name: string }) => api.takePicture(record.name, use),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['picture', record.name] }),
  })
  return (
    <Box sx={{ display: 'grid', gridTemplateColumns: { xs: '1fr', md: 'minmax(0, 1fr) minmax(0, 1fr)' }, gap: 4 }}>
      <Box>
        <Typography variant="h2">Where it is used</Typography>
        <Trouble error={take.error} />
        {record.uses.length === 0 && (
          <Typography color="text.secondary">No template uses it. Fit it, then put it into one.</Typography>
        )}
        <Box component="ul" aria-label="Uses" sx={{ listStyle: 'none', m: 0, p: 0 }}>
          {record.uses.map((u) => (
            <Box component="li" key={u.template + u.name} sx={{ py: 1.2, borderTop: 1, borderColor: 'divider' }}>
              <Box sx={{ display: 'flex', gap: 2, alignItems: 'center' }}>
                <Box sx={{ flex: 1 }}>
                  <Link component={RouterLink} to={`/templates/${u.template}`}>
                    {u.template}
                  </Link>{' '}
                  as <code>{u.name}</code>, version {u.version}
                  {u.packages > 0 && `, in ${count(u.packages, 'package', 'packages')}`}
                </Box>
                {u.version !== record.versions[0]?.number ? (
                  <Act
                    needs="pictures"
                    size="small"
                    variant="outlined"
                    disabled={take.isPending}
                    onClick={() => take.mutate({ template: u.template, name: u.name })}
                  >
                    Take the latest
                  </Act>
                ) : (
                  <Severity of="fine">the latest</Severity>
                )}
              </Box>
              {u.version !== record.versions[0]?.number && (
                <Changes
                  picture={record.name}
                  latest={record.versions[0]?.number ?? 0}
                  template={u.template}
                  as={u.name}
                />
              )}
            </Box>
          ))}
        </Box>
        <Alts record={record} />
      </Box>
      <Box>
        <Typography variant="h2">Versions</Typography>
        <Table size="small" aria-label="Versions">
          <TableBody>
            {record.versions.map((v) => (
              <TableRow key={v.number}>
                <TableCell>
                  <Box
                    sx={{
                      ...checkered,
                      width: 72,
                      height: 48,
                      display: 'flex',
                      alignItems: 'center',
                      justifyContent: 'center',
                    }}
                  >
                    <img
                      src={pictureView(record.name, v.number)}
                      alt={`Version ${v.number}`}
                      style={{ maxWidth: 70, maxHeight: 46 }}
                    />
                  </Box>
                </TableCell>
                <TableCell>
                  {v.number}: {inShort(v.facts)}
                  <Typography variant="body2" color="text.secondary">
                    {[when(v.saved), v.author, v.note, v.file].filter(Boolean).join(', ')}
                  </Typography>
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
        <Typography variant="h2" sx={{ mt: 3 }}>
          Renditions that are kept
        </Typography>
        {record.renditions.length === 0 && <Typography color="text.secondary">None yet.</Typography>}
        {record.renditions.length > 0 && (
          <Table size="small" aria-label="Renditions">
            <TableHead>
              <TableRow>
                <TableCell>Look</TableCell>
                <TableCell>What it is</TableCell>
              </TableRow>
            </TableHead>
            <TableBody>
              {record.renditions.map((r) => (
                <TableRow key={r.key + r.number}>
                  <TableCell>
                    <Box sx={{ ...checkered, lineHeight: 0, width: 'fit-content' }}>
                      <img src={`/p/${r.key}`} alt={`Rendition ${r.key}`} style={{ maxWidth: 110, maxHeight: 60 }} />
                    </Box>
                  </TableCell>
                  <TableCell>
                    {inShort(r.facts)}, of version {r.number}
                    <Typography
                      variant="body2"
                      color="text.secondary"
                      component="code"
                      sx={{ display: 'block', overflowWrap: 'anywhere' }}
                    >
                      {r.key}
                    </Typography>
                  </TableCell>
                </TableRow>
              ))}
            </TableBody>
          </Table>
        )}
      </Box>
    </Box>
  )
}

/** What the latest version would change where an older one is used; it is worked out when it is looked at. */
function Changes({ picture, latest, template, as }: { picture: string; latest: number; template: string; as: string }) {
  const changes = useQuery({
    queryKey: ['picture', picture, 'changes', latest, template, as],
    queryFn: () => api.pictureChanges(picture, template, as),
  })
  if (changes.error) return <Trouble error={changes.error} />
  if (!changes.data) return <Typography variant="body2">Working out what it changes ...</Typography>
  return (
    <Box component="ul" aria-label={`What it changes in ${template}`} sx={{ m: 0, pl: 2.5 }}>
      {changes.data.changes.map((c) => (
        <li key={c}>{c}</li>
      ))}
    </Box>
  )
}

function Alts({ record }: { record: PictureRecord }) {
  const queries = useQueryClient()
  const stored = Object.entries(record.alts).sort()
  const [draft, setDraft] = useState<[string, string][] | null>(null)
  const rows: [string, string][] = draft ?? [...stored, ['', '']]
  const save = useMutation({
    mutationFn: () => api.putAlts(record.name, Object.fromEntries(rows.filter(([language, text]) => language && text))),
    onSuccess: (next) => {
      queries.setQueryData(['picture', record.name], next)
      void queries.invalidateQueries({ queryKey: ['pictures'] })
      setDraft(null)
    },
  })
  const set = (i: number, row: [string, string]) => {
    const next = rows.map((r, k) => (k === i ? row : r))
    setDraft(i === rows.length - 1 ? [...next, ['', '']] : next)
  }
  return (
    <Box
      component="form"
      aria-label="Alternative texts"
      onSubmit={(e) => {
        e.preventDefault()
        save.mutate()
      }}
      sx={{ mt: 4 }}
    >
      <Typography variant="h2" sx={{ mb: 1 }}>
        Alternative text by language
      </Typography>
      {rows.map(([language, text], i) => (
        <Box key={i} sx={{ display: 'flex', gap: 1, mb: 1 }}>
          <TextField
            size="small"
            label="Language"
            value={language}
            placeholder="en"
            onChange={(e) => set(i, [e.target.value, text])}
            sx={{ width: 110 }}
          />
          <TextField
            size="small"
            label="Text"
            value={text}
            onChange={(e) => set(i, [language, e.target.value])}
            sx={{ flex: 1 }}
          />
        </Box>
      ))}
      <Act needs="pictures" type="submit" variant="outlined" disabled={!draft || save.isPending}>
        Save the texts
      </Act>
      <Trouble error={save.error} />
    </Box>
  )
}
