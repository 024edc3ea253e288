import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import Link from '@mui/material/Link'
import MenuItem from '@mui/material/MenuItem'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Act, Lacking, useMay } from '../access/session'
import { ToKeep } from '../access/ToKeep'
import { api, type AddOnSettings, type AddOnSite } from '../api/api'
import { count, Page, PageHead, PageTabs, Section, Trouble, when } from '../pages/parts'
import { deskPages } from '../releases/states'
import { codeFont } from '../theme'

/** The browser add-on: on which sites it places signatures, how compose fields are recognised there, packages and keys. */
export function AddOnPage() {
  const may = useMay('people')
  const addOn = useQuery({ queryKey: ['add-on'], queryFn: api.addOn })
  const o = addOn.data
  return (
    <Page>
      <PageTabs label="How signatures get there" pages={deskPages} />
      <PageHead title="Add-on">
        In webmails whose box refuses or spoils a signature, an add-on of the browser puts it into each message. It runs
        on the sites named here and nowhere else.
      </PageHead>
      <Trouble error={addOn.error} />
      {o && (
        <>
          <Section title="Get it to people">
            <Typography>
              Version {o.version}. {count(o.people, 'person has', 'people have')} a key; {o.used} of them used it within
              seven days. The version changes by itself when the sites do.
            </Typography>
            <Box sx={{ display: 'flex', gap: 1, flexWrap: 'wrap', my: 1.5 }}>
              <Button variant="outlined" href="/api/v1/add-on/add-on.crx" download>
                For Chromium, signed
              </Button>
              <Button variant="outlined" href="/api/v1/add-on/add-on.zip" download>
                For Chromium, to unpack
              </Button>
              <Button variant="outlined" href="/api/v1/add-on/add-on.xpi" download>
                For Gecko
              </Button>
              <Button href="/api/v1/add-on/policy?engine=chromium" target="_blank">
                Policy for Chromium
              </Button>
              <Button href="/api/v1/add-on/policy?engine=gecko" target="_blank">
                Policy for Gecko
              </Button>
            </Box>
            <Typography variant="body2" color="text.secondary" sx={{ overflowWrap: 'anywhere' }}>
              Chromium knows it as <code>{o.id}</code>, Gecko as <code>{o.geckoId}</code>. What it reads and sends
              stands on a page of the add-on.
            </Typography>
          </Section>
          <Sites key={JSON.stringify(o)} stored={{ name: o.name, keyDays: o.keyDays, sites: o.sites }} />
        </>
      )}
      <Lacking permission="people">Making keys</Lacking>
      {may && <Keys />}
    </Page>
  )
}

/** A site as it is edited: with its compose fields as text. */
type Edited = AddOnSite & { text: string }

const edited = (s: AddOnSite): Edited => ({ ...s, text: JSON.stringify(s.compose, null, 2) })

const blank = (): Edited =>
  edited({ id: '', title: '', matches: [], client: 'capped-webmail', place: 'above', compose: [] })

/** What the recorder wrote: one description, or a list of them. */
function read({ text, ...site }: Edited): AddOnSite {
  try {
    const parsed: unknown = JSON.parse(text || '[]')
    return { ...site, compose: (Array.isArray(parsed) ? parsed : [parsed]) as AddOnSite['compose'] }
  } catch (error) {
    throw new Error(`The compose fields of ${site.id} cannot be read: ${String(error)}`)
  }
}

function Sites({ stored }: { stored: AddOnSettings }) {
  const queries = useQueryClient()
  const clients = useQuery({ queryKey: ['clients'], queryFn: api.clients })
  const [s, setS] = useState(stored)
  const [sites, setSites] = useState(() => stored.sites.map(edited))
  const [changed, setChanged] = useState(false)
  const save = useMutation({
    // what cannot be read is refused here, and nothing is sent
    mutationFn: async () => api.putAddOnSettings({ ...s, sites: sites.map(read) }),
    onSuccess: (next) => queries.setQueryData(['add-on'], next),
  })
  const put = (i: number, part: Partial<Edited>) => {
    setSites(sites.map((one, at) => (at === i ? { ...one, ...part } : one)))
    setChanged(true)
  }
  return (
    <Section title="Sites">
      {sites.length === 0 && (
        <Typography sx={{ mb: 1.5 }}>
          Name the first webmail. Its compose field can be shown to the add-on there with Record a compose field.
        </Typography>
      )}
      {sites.map((site, i) => (
        <Box
          key={i}
          component="fieldset"
          sx={{ border: 0, borderTop: 1, borderColor: 'divider', m: 0, mb: 2, px: 0, pt: 1.5 }}
        >
          <Box component="legend" sx={{ pr: 1, color: 'text.secondary' }}>
            {site.title || `Site ${i + 1}`}
          </Box>
          <Box sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap', mb: 1.5 }}>
            <TextField
              size="small"
              label="Id"
              value={site.id}
              onChange={(e) => put(i, { id: e.target.value })}
              sx={{ width: 160 }}
            />
            <TextField
              size="small"
              label="Title"
              value={site.title}
              onChange={(e) => put(i, { title: e.target.value })}
              sx={{ width: 200 }}
            />
            <TextField
              size="small"
              label="Addresses of its pages, with commas"
              placeholder="https://mail.brackwater.example/*"
              value={site.matches.join(', ')}
              onChange={(e) => put(i, { matches: e.target.value.split(',').map((m) => m.trim()) })}
              sx={{ flex: '1 1 320px' }}
            />
            <TextField
              select
              size="small"
              label="Client profile"
              value={clients.data ? site.client : ''}
              onChange={(e) => put(i, { client: e.target.value })}
              sx={{ width: 300 }}
            >
              {(clients.data ?? []).map((c) => (
                <MenuItem key={c.id} value={c.id}>
                  {c.title}
                </MenuItem>
              ))}
            </TextField>
            <TextField
              select
              size="small"
              label="In replies"
              value={site.place}
              onChange={(e) => put(i, { place: e.target.value as AddOnSite['place'] })}
              sx={{ width: 240 }}
            >
              <MenuItem value="above">above what is quoted</MenuItem>
              <MenuItem value="below">at the end of the message</MenuItem>
            </TextField>
            <FormControlLabel
              control={<Checkbox checked={site.off ?? false} onChange={(e) => put(i, { off: e.target.checked })} />}
              label="Switched off for now"
            />
            <Button
              size="small"
              color="inherit"
              onClick={() => {
                setSites(sites.filter((_, at) => at !== i))
                setChanged(true)
              }}
            >
              Remove
            </Button>
          </Box>
          <TextField
            multiline
            fullWidth
            minRows={3}
            maxRows={14}
            label="Compose fields, as the recorder wrote them"
            value={site.text}
            onChange={(e) => put(i, { text: e.target.value })}
            slotProps={{ htmlInput: { spellCheck: false, style: { fontFamily: codeFont, fontSize: 13 } } }}
          />
        </Box>
      ))}
      <Button size="small" onClick={() => (setSites([...sites, blank()]), setChanged(true))}>
        Add a site
      </Button>
      <Box sx={{ display: 'flex', gap: 2, flexWrap: 'wrap', my: 2 }}>
        <TextField
          size="small"
          label="Name in the browser"
          helperText="After the word Signatures"
          value={s.name}
          onChange={(e) => (setS({ ...s, name: e.target.value }), setChanged(true))}
          sx={{ width: 260 }}
        />
        <TextField
          size="small"
          type="number"
          label="Days that a key lasts"
          value={s.keyDays}
          onChange={(e) => (setS({ ...s, keyDays: Number(e.target.value) }), setChanged(true))}
          sx={{ width: 180 }}
        />
      </Box>
      <Trouble error={save.error} />
      <Act
        needs="settings"
        variant="contained"
        disabled={!changed}
        loading={save.isPending}
        onClick={() => save.mutate()}
      >
        Save
      </Act>
    </Section>
  )
}

function Keys() {
  const keys = useQuery({ queryKey: ['add-on-keys'], queryFn: () => api.addOnKeys('') })
  const queries = useQueryClient()
  const [person, setPerson] = useState('')
  const after = () => queries.invalidateQueries({ queryKey: ['add-on-keys'] })
  const make = useMutation({ mutationFn: () => api.addAddOnKeys([person.trim()]), onSuccess: after })
  const revoke = useMutation({ mutationFn: (id: number) => api.revokeAddOnKey(id), onSuccess: after })
  const [made] = make.data ?? []
  return (
    <Section title="Keys">
      <Typography sx={{ mb: 1.5, maxWidth: 720 }}>
        People make a key for their own browser on{' '}
        <Link href="/your-signature" target="_blank">
          their own page
        </Link>
        . Make them here for browsers that get the key by policy; many at once with missivum add-on keys.
      </Typography>
      <Box sx={{ display: 'flex', gap: 1, alignItems: 'center', mb: 1 }}>
        <TextField
          size="small"
          label="Mail address"
          value={person}
          onChange={(e) => setPerson(e.target.value)}
          sx={{ width: 320 }}
        />
        <Button variant="outlined" disabled={!person.trim()} loading={make.isPending} onClick={() => make.mutate()}>
          Make a key
        </Button>
      </Box>
      <Trouble error={keys.error ?? make.error ?? revoke.error} />
      {made && (
        <ToKeep label="Key" text={made.key} onClose={() => make.reset()}>
          The key of {made.person}, shown this once. It works until {when(made.ends)}.
        </ToKeep>
      )}
      {keys.data && keys.data.length > 0 && (
        <Table size="small" aria-label="Keys of add-ons">
          <TableHead>
            <TableRow>
              {['Person', 'Made', 'Ends', 'Used last', 'Version', ''].map((h) => (
                <TableCell key={h}>{h}</TableCell>
              ))}
            </TableRow>
          </TableHead>
          <TableBody>
            {keys.data.slice(0, 50).map((k) => (
              <TableRow key={k.id}>
                <TableCell>{k.person}</TableCell>
                <TableCell>{when(k.created)}</TableCell>
                <TableCell>{k.revoked ? `ended ${when(k.revoked)}` : when(k.ends)}</TableCell>
                <TableCell>{k.used ? when(k.used) : 'never'}</TableCell>
                <TableCell>{k.version}</TableCell>
                <TableCell>
                  {!k.revoked && (
                    <Button
                      size="small"
                      color="inherit"
                      aria-label={`End the key of ${k.person}`}
                      onClick={() => revoke.mutate(k.id)}
                    >
                      End
                    </Button>
                  )}
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
    </Section>
  )
}
