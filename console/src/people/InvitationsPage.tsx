import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import FormControlLabel from '@mui/material/FormControlLabel'
import IconButton from '@mui/material/IconButton'
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
import Link from '@mui/material/Link'
import { Link as RouterLink } from 'react-router'
import { Act, Lacking, useMay } from '../access/session'
import { ToKeep } from '../access/ToKeep'
import { api, type Invite, type PersonalDetail, type PersonalLink, type PersonalSettings } from '../api/api'
import { count, Page, Section, Trouble, when } from '../pages/parts'
import { download } from '../workbench/download'
import { PeopleHead } from './PeopleHead'

/** Inviting people to the page of their own signature, and what they ask there. */
export function InvitationsPage() {
  const may = useMay('people')
  return (
    <Page>
      <PeopleHead title="Invitations">
        Everybody can put their own signature into their program by a personal link. Who has done it is on{' '}
        <Link component={RouterLink} to="/desks">
          Desks
        </Link>
        , with what desks report.
      </PeopleHead>
      <Lacking permission="people">Inviting people</Lacking>
      {may && (
        <>
          <Inviting />
          <Requests />
          <Links />
        </>
      )}
      <Settings />
    </Page>
  )
}

function Inviting() {
  const audiences = useQuery({ queryKey: ['audiences'], queryFn: api.audiences })
  const settings = useQuery({ queryKey: ['personal-settings'], queryFn: api.personalSettings })
  const queries = useQueryClient()
  const [audience, setAudience] = useState('')
  const [remind, setRemind] = useState(false)
  const invite: Invite = { kind: remind ? 'reminder' : 'invitation', audience }
  const who = useQuery({ queryKey: ['invited', invite], queryFn: () => api.whoIsInvited(invite) })
  const after = () => queries.invalidateQueries({ queryKey: ['invited'] })
  const drafts = useMutation({
    mutationFn: () => api.draftInvitations(invite),
    onSuccess: (file) => (download(file), after()),
  })
  const send = useMutation({ mutationFn: () => api.sendInvitations(invite), onSuccess: after })
  const n = who.data?.people.length ?? 0
  return (
    <Section title="Invite or remind">
      <Box sx={{ display: 'flex', gap: 2, flexWrap: 'wrap', alignItems: 'center', mb: 1 }}>
        <TextField
          select
          size="small"
          label="Whom"
          slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
          value={audience}
          onChange={(e) => setAudience(e.target.value)}
          sx={{ minWidth: 220 }}
        >
          <MenuItem value="">Everybody</MenuItem>
          {audiences.data?.map((a) => (
            <MenuItem key={a.name} value={a.name}>
              {a.title || a.name}
            </MenuItem>
          ))}
        </TextField>
        <FormControlLabel
          control={<Checkbox checked={remind} onChange={(e) => setRemind(e.target.checked)} />}
          label="Remind instead of inviting"
        />
      </Box>
      <Typography sx={{ mb: 1.5 }}>
        {who.data &&
          `${count(n, 'person would', 'people would')} be written to, each with a new personal link. Left out: ${who.data.proved} whose signature is known to be right, ${who.data.recent} written to within ${settings.data?.remindDays ?? 0} days, ${who.data.without} whom no release reaches.`}
      </Typography>
      <Trouble error={who.error ?? drafts.error ?? send.error} />
      <Box sx={{ display: 'flex', gap: 1, alignItems: 'center', flexWrap: 'wrap' }}>
        <Button variant="contained" disabled={n === 0} loading={drafts.isPending} onClick={() => drafts.mutate()}>
          Get drafts
        </Button>
        {settings.data?.server ? (
          <Button
            variant="outlined"
            disabled={n === 0 || !settings.data.from}
            loading={send.isPending}
            onClick={() => send.mutate()}
          >
            Send {settings.data.rate} a minute
          </Button>
        ) : (
          <Typography variant="body2" color="text.secondary">
            To send them from here, name a mail server in the settings file (invitations.server).
          </Typography>
        )}
      </Box>
      {drafts.isSuccess && (
        <Typography role="status">Each draft holds a personal link: give it to nobody but its person.</Typography>
      )}
      {send.data && (
        <Typography role="status">
          {count(send.data.invited.people.length, 'message is', 'messages are')} being sent.
        </Typography>
      )}
    </Section>
  )
}

function Requests() {
  const requests = useQuery({ queryKey: ['detail-requests'], queryFn: () => api.detailRequests('open') })
  const queries = useQueryClient()
  const decide = useMutation({
    mutationFn: ({ id, accept }: { id: number; accept: boolean }) =>
      accept ? api.acceptDetailRequest(id) : api.refuseDetailRequest(id),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['detail-requests'] }),
  })
  return (
    <Section title="What people ask">
      <Trouble error={requests.error ?? decide.error} />
      {requests.data?.length === 0 && <Typography color="text.secondary">Nobody asks for anything.</Typography>}
      {requests.data && requests.data.length > 0 && (
        <Table size="small" aria-label="What people ask">
          <TableHead>
            <TableRow>
              {['Person', 'Field', 'Asks', 'Since', ''].map((h) => (
                <TableCell key={h}>{h}</TableCell>
              ))}
            </TableRow>
          </TableHead>
          <TableBody>
            {requests.data.map((r) => (
              <TableRow key={r.id}>
                <TableCell>
                  <Link component={RouterLink} to={`/people/who/${encodeURIComponent(r.person)}`}>
                    {r.person}
                  </Link>
                </TableCell>
                <TableCell>{r.field}</TableCell>
                <TableCell>{r.kind === 'change' ? `${r.value || 'blank'} instead` : `wrong: ${r.note}`}</TableCell>
                <TableCell>{when(r.asked)}</TableCell>
                <TableCell sx={{ whiteSpace: 'nowrap' }}>
                  <Button size="small" onClick={() => decide.mutate({ id: r.id, accept: true })}>
                    {r.kind === 'change' ? 'Accept' : 'Done'}
                  </Button>
                  <Button size="small" color="inherit" onClick={() => decide.mutate({ id: r.id, accept: false })}>
                    Refuse
                  </Button>
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
    </Section>
  )
}

function Links() {
  const queries = useQueryClient()
  const [search, setSearch] = useState('')
  const links = useQuery({ queryKey: ['personal-links', search], queryFn: () => api.personalLinks(search) })
  const again = () => queries.invalidateQueries({ queryKey: ['personal-links'] })
  const [made, setMade] = useState<PersonalLink>()
  const make = useMutation({
    mutationFn: () => api.addPersonalLink(search.trim()),
    onSuccess: (link) => (setMade(link), again()),
  })
  const revoke = useMutation({ mutationFn: api.revokePersonalLink, onSuccess: again })
  return (
    <Section title="Personal links">
      <Box sx={{ display: 'flex', gap: 1, mb: 1.5, flexWrap: 'wrap' }}>
        <TextField
          size="small"
          type="search"
          label="Mail address"
          value={search}
          onChange={(e) => setSearch(e.target.value)}
          sx={{ minWidth: 320 }}
        />
        <Button
          variant="outlined"
          disabled={!search.includes('@')}
          loading={make.isPending}
          onClick={() => make.mutate()}
        >
          Make a link
        </Button>
      </Box>
      <Trouble error={links.error ?? make.error ?? revoke.error} />
      {made?.address && (
        <ToKeep label="Link" text={made.address} onClose={() => setMade(undefined)}>
          The link of {made.person}, shown this once. It works until {when(made.ends)}; links of before have ended.
        </ToKeep>
      )}
      {links.data && links.data.length > 0 && (
        <Table size="small" aria-label="Personal links">
          <TableHead>
            <TableRow>
              {['Person', 'Made', 'Ends', 'State', ''].map((h) => (
                <TableCell key={h}>{h}</TableCell>
              ))}
            </TableRow>
          </TableHead>
          <TableBody>
            {links.data.slice(0, 20).map((l) => (
              <TableRow key={l.id}>
                <TableCell>{l.person}</TableCell>
                <TableCell>{when(l.created)}</TableCell>
                <TableCell>{when(l.ends)}</TableCell>
                <TableCell>{l.revoked ? 'ended' : l.opened ? `opened ${when(l.opened)}` : 'not opened'}</TableCell>
                <TableCell>
                  {!l.revoked && (
                    <Button size="small" color="inherit" onClick={() => revoke.mutate(l.id)}>
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

function Settings() {
  const settings = useQuery({ queryKey: ['personal-settings'], queryFn: api.personalSettings })
  return (
    <Section title="What the page offers">
      <Trouble error={settings.error} />
      {settings.data && <SettingsForm key={JSON.stringify(settings.data)} stored={settings.data} />}
    </Section>
  )
}

const blank: PersonalDetail = { field: '', label: '', choices: [], longest: 0, avoid: [], approval: false }
const listed = (text: string) =>
  text
    .split(',')
    .map((word) => word.trim())
    .filter(Boolean)

function SettingsForm({ stored }: { stored: PersonalSettings }) {
  const queries = useQueryClient()
  const [s, setS] = useState(stored)
  const save = useMutation({
    mutationFn: () => api.putPersonalSettings(s),
    onSuccess: (next) => queries.setQueryData(['personal-settings'], next),
  })
  const put = (i: number, part: Partial<PersonalDetail>) =>
    setS({ ...s, details: s.details.map((d, at) => (at === i ? { ...d, ...part } : d)) })
  const number = (name: 'linkDays' | 'remindDays' | 'rate', label: string) => (
    <TextField
      size="small"
      type="number"
      label={label}
      value={s[name]}
      onChange={(e) => setS({ ...s, [name]: Number(e.target.value) })}
      sx={{ width: 200 }}
    />
  )
  return (
    <>
      <Typography sx={{ mb: 1 }}>Details that people may change themselves:</Typography>
      {s.details.map((d, i) => (
        <Box key={i} sx={{ display: 'flex', gap: 1, flexWrap: 'wrap', alignItems: 'center', mb: 1 }}>
          <TextField
            size="small"
            label="Field"
            value={d.field}
            onChange={(e) => put(i, { field: e.target.value })}
            sx={{ width: 150 }}
          />
          <TextField
            size="small"
            label="Called"
            value={d.label}
            onChange={(e) => put(i, { label: e.target.value })}
            sx={{ width: 150 }}
          />
          <TextField
            size="small"
            label="Choices, with commas"
            defaultValue={d.choices.join(', ')}
            onBlur={(e) => put(i, { choices: listed(e.target.value) })}
            sx={{ width: 220 }}
          />
          <TextField
            size="small"
            type="number"
            label="Characters"
            value={d.longest || ''}
            onChange={(e) => put(i, { longest: Number(e.target.value) })}
            sx={{ width: 110 }}
          />
          <TextField
            size="small"
            label="Words to avoid"
            defaultValue={d.avoid.join(', ')}
            onBlur={(e) => put(i, { avoid: listed(e.target.value) })}
            sx={{ width: 170 }}
          />
          <FormControlLabel
            control={<Checkbox checked={d.approval} onChange={(e) => put(i, { approval: e.target.checked })} />}
            label="Accepted first"
          />
          <IconButton
            size="small"
            aria-label={`Remove detail ${i + 1}`}
            onClick={() => setS({ ...s, details: s.details.filter((_, at) => at !== i) })}
          >
            ×
          </IconButton>
        </Box>
      ))}
      <Button size="small" onClick={() => setS({ ...s, details: [...s.details, blank] })}>
        Add a detail
      </Button>
      <Box sx={{ display: 'flex', gap: 2, flexWrap: 'wrap', my: 2 }}>
        <TextField
          size="small"
          label="Who keeps the directory"
          helperText="Blank: nothing can be reported as wrong"
          value={s.wrong}
          onChange={(e) => setS({ ...s, wrong: e.target.value })}
          sx={{ width: 300 }}
        />
        <TextField
          size="small"
          label="Programs to choose from"
          helperText="Ids of client profiles, with commas; blank for all"
          defaultValue={s.clients.join(', ')}
          onBlur={(e) => setS({ ...s, clients: listed(e.target.value) })}
          sx={{ width: 380 }}
        />
        <TextField
          size="small"
          label="Sender of invitations"
          helperText="Name <name@brackwater.example>"
          value={s.from}
          onChange={(e) => setS({ ...s, from: e.target.value })}
          sx={{ width: 380 }}
        />
        <TextField
          size="small"
          label="Sentence of your own in invitations"
          value={s.note}
          onChange={(e) => setS({ ...s, note: e.target.value })}
          sx={{ width: 380 }}
        />
        {number('linkDays', 'Days that a link lasts')}
        {number('remindDays', 'Days until a reminder')}
        {number('rate', 'Messages a minute')}
      </Box>
      {save.error && (
        <Alert severity="error" sx={{ mb: 1 }}>
          {save.error.message}
        </Alert>
      )}
      <Act
        needs="settings"
        variant="contained"
        disabled={s === stored}
        loading={save.isPending}
        onClick={() => save.mutate()}
      >
        Save
      </Act>
    </>
  )
}
