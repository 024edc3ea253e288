import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, type Key, type Scope } from '../api/api'
import { Trouble, when } from '../pages/parts'
import { ToKeep } from './ToKeep'

const scopes: { scope: Scope; says: string }[] = [
  { scope: 'api:read', says: 'looks at everything but accounts, keys and the record' },
  { scope: 'api:write', says: 'changes too' },
  { scope: 'directory', says: 'pushes people in: for an identity system (SCIM)' },
  { scope: 'desk', says: 'fetches signatures and reports: for missivum desk watch' },
  { scope: 'gateway', says: 'fetches the mail rules and reports: for missivum gateway' },
  { scope: 'metrics', says: 'reads the figures: for whatever watches services' },
]

const day = (iso: string) => new Date(iso).toLocaleDateString('en-GB', { dateStyle: 'medium' })

/** Keys with what can be done about them: those of programs, or one's own. */
export function Keys({ own }: { own: boolean }) {
  const queries = useQueryClient()
  const which = [own ? 'own-keys' : 'keys']
  const keys = useQuery({ queryKey: which, queryFn: own ? api.ownKeys : api.keys })
  const [made, setMade] = useState<Key>()
  const refresh = () => void queries.invalidateQueries({ queryKey: which })
  const remove = useMutation({
    mutationFn: (name: string) => (own ? api.removeOwnKey(name) : api.removeKey(name)),
    onSuccess: refresh,
  })
  return (
    <>
      <Trouble error={keys.error ?? remove.error} />
      {made && (
        <ToKeep label="Key" text={made.secret ?? ''} onClose={() => setMade(undefined)}>
          This is the key {made.name}. It is shown once; only its digest is kept.
        </ToKeep>
      )}
      {keys.data?.length === 0 && (
        <Typography color="text.secondary" sx={{ mb: 3 }}>
          There are no keys.
        </Typography>
      )}
      {keys.data && keys.data.length > 0 && (
        <Table size="small" aria-label="Keys" sx={{ mb: 3 }}>
          <TableHead>
            <TableRow>
              {['Key', 'Scopes', ...(own ? [] : ['Acts for', 'Source']), 'Made', 'Ends', 'Used last', ''].map((h) => (
                <TableCell key={h}>{h}</TableCell>
              ))}
            </TableRow>
          </TableHead>
          <TableBody>
            {keys.data.map((k) => (
              <TableRow key={k.name}>
                <TableCell>{k.name}</TableCell>
                <TableCell>{k.scopes.join(', ')}</TableCell>
                {!own && (
                  <>
                    <TableCell>{k.account || 'a program'}</TableCell>
                    <TableCell>{k.source || '–'}</TableCell>
                  </>
                )}
                <TableCell>{day(k.created)}</TableCell>
                <TableCell>{k.ends ? day(k.ends) : 'never'}</TableCell>
                <TableCell>{k.used ? when(k.used) : 'never'}</TableCell>
                <TableCell align="right">
                  <Button
                    size="small"
                    color="error"
                    aria-label={`Remove ${k.name}`}
                    onClick={() => remove.mutate(k.name)}
                  >
                    Remove
                  </Button>
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
      <NewKey
        own={own}
        onMade={(key) => {
          setMade(key)
          refresh()
        }}
      />
    </>
  )
}

function NewKey({ own, onMade }: { own: boolean; onMade: (key: Key) => void }) {
  const [name, setName] = useState('')
  const [held, setHeld] = useState<Scope[]>(own ? ['api:write'] : [])
  const [source, setSource] = useState('')
  const [ends, setEnds] = useState('')
  const make = useMutation({
    mutationFn: () => {
      const body = { name, scopes: held, source: held.includes('directory') ? source : '', ends }
      return own ? api.addOwnKey(body) : api.addKey(body)
    },
    onSuccess: (key) => {
      setName('')
      onMade(key)
    },
  })
  const offered = own ? scopes.slice(0, 2) : scopes
  return (
    <Box
      component="form"
      aria-label="New key"
      sx={{ display: 'flex', flexDirection: 'column', gap: 1.5, maxWidth: 640 }}
      onSubmit={(e) => {
        e.preventDefault()
        make.mutate()
      }}
    >
      <Typography variant="h2">New key</Typography>
      <Box sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap' }}>
        <TextField
          size="small"
          label="Name"
          value={name}
          required
          helperText="What uses it: small letters, digits, hyphens."
          onChange={(e) => setName(e.target.value)}
        />
        <TextField
          size="small"
          label="Ends on"
          type="date"
          value={ends}
          helperText="Blank: never."
          slotProps={{ inputLabel: { shrink: true } }}
          onChange={(e) => setEnds(e.target.value)}
        />
        {held.includes('directory') && (
          <TextField
            size="small"
            label="Source"
            value={source}
            required
            helperText="That it pushes people into."
            onChange={(e) => setSource(e.target.value)}
          />
        )}
      </Box>
      <Box role="group" aria-label="Scopes">
        {offered.map(({ scope, says }) => (
          <FormControlLabel
            key={scope}
            sx={{ display: 'flex' }}
            control={
              <Checkbox
                size="small"
                checked={held.includes(scope)}
                onChange={(e) => setHeld(e.target.checked ? [...held, scope] : held.filter((s) => s !== scope))}
              />
            }
            label={
              <>
                <b>{scope}</b> {says}
              </>
            }
          />
        ))}
      </Box>
      <Trouble error={make.error} />
      <Box>
        <Button type="submit" variant="outlined" disabled={make.isPending || held.length === 0}>
          Make the key
        </Button>
      </Box>
    </Box>
  )
}
