import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import Link from '@mui/material/Link'
import Tab from '@mui/material/Tab'
import Table from '@mui/material/Table'
import TableBody from '@mui/material/TableBody'
import TableCell from '@mui/material/TableCell'
import TableHead from '@mui/material/TableHead'
import TableRow from '@mui/material/TableRow'
import Tabs from '@mui/material/Tabs'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as RouterLink, useNavigate, useSearchParams } from 'react-router'
import { Act, Lacking } from '../access/session'
import { api, pictureView, type PictureSummary } from '../api/api'
import { Page, PageHead, Severity, Trouble, when } from '../pages/parts'
import { Addresses } from './Addresses'
import { Codes } from './Codes'
import { checkered, weight } from './facts'
import { Photos } from './Photos'
import { Delivery } from './Delivery'

const tabs = ['pictures', 'delivery', 'addresses', 'photos', 'codes'] as const
const labels = {
  pictures: 'Pictures',
  delivery: 'Delivery',
  addresses: 'Addresses',
  photos: 'Photos of people',
  codes: 'Codes',
}

export function PicturesPage() {
  const [search, setSearch] = useSearchParams()
  const tab = tabs.find((t) => t === search.get('part')) ?? 'pictures'
  const [adding, setAdding] = useState(false)
  return (
    <Page>
      <PageHead
        title="Pictures"
        actions={
          <Act needs="pictures" variant="contained" onClick={() => setAdding(true)}>
            Add a picture
          </Act>
        }
      >
        Originals with their versions. What templates show is made of them: exactly the size, as light as can be, at an
        address that lasts.
      </PageHead>
      <Lacking permission="pictures">Changing pictures</Lacking>
      <Tabs
        value={tab}
        onChange={(_, t: string) => setSearch(t === 'pictures' ? {} : { part: t }, { replace: true })}
        aria-label="Parts of the page"
        variant="scrollable"
        sx={{ mb: 2, borderBottom: 1, borderColor: 'divider' }}
      >
        {tabs.map((t) => (
          <Tab key={t} value={t} label={labels[t]} />
        ))}
      </Tabs>
      {tab === 'pictures' && <List />}
      {tab === 'delivery' && <Delivery />}
      {tab === 'addresses' && <Addresses />}
      {tab === 'photos' && <Photos />}
      {tab === 'codes' && <Codes />}
      {adding && <AddPicture onClose={() => setAdding(false)} />}
    </Page>
  )
}

function List() {
  const pictures = useQuery({ queryKey: ['pictures'], queryFn: api.pictures })
  return (
    <>
      <Trouble error={pictures.error} />
      {pictures.data?.length === 0 && (
        <Typography>There is no picture yet. Add the logo as the designer made it, the larger the better.</Typography>
      )}
      {pictures.data && pictures.data.length > 0 && (
        <Table aria-label="Pictures">
          <TableHead>
            <TableRow>
              <TableCell sx={{ width: 120 }}>
                <span aria-label="Look" />
              </TableCell>
              <TableCell>Name</TableCell>
              <TableCell>Original</TableCell>
              <TableCell>Used in</TableCell>
              <TableCell>Version</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {pictures.data.map((p) => (
              <PictureRow key={p.name} picture={p} />
            ))}
          </TableBody>
        </Table>
      )}
    </>
  )
}

function PictureRow({ picture: p }: { picture: PictureSummary }) {
  return (
    <TableRow sx={{ verticalAlign: 'top' }}>
      <TableCell>
        <Box
          sx={{
            ...checkered,
            width: 104,
            height: 64,
            display: 'flex',
            alignItems: 'center',
            justifyContent: 'center',
            border: 1,
            borderColor: 'divider',
          }}
        >
          <img src={pictureView(p.name, p.number)} alt="" style={{ maxWidth: 100, maxHeight: 60 }} />
        </Box>
      </TableCell>
      <TableCell>
        <Link component={RouterLink} to={`/pictures/${p.name}`} sx={{ fontWeight: 600, fontSize: '1.05rem' }}>
          {p.name}
        </Link>
        <Typography variant="body2" color="text.secondary">
          {p.alt || 'no alternative text yet'}
        </Typography>
      </TableCell>
      <TableCell>
        {p.facts.format.toUpperCase()}, {p.facts.width} × {p.facts.height} px
        <Typography variant="body2" color="text.secondary">
          {weight(p.facts.bytes)}
          {p.facts.frames > 1 && `, ${p.facts.frames} frames`}
        </Typography>
      </TableCell>
      <TableCell>
        {p.uses.length === 0 ? (
          <Typography variant="body2" color="text.secondary">
            no template
          </Typography>
        ) : (
          p.uses.join(', ')
        )}
        {p.outdated.length > 0 && <Severity of="degrades">older version in {p.outdated.join(', ')}</Severity>}
      </TableCell>
      <TableCell>
        {p.number}
        <Typography variant="body2" color="text.secondary">
          {when(p.saved)}
        </Typography>
      </TableCell>
    </TableRow>
  )
}

/** A file becomes a picture, or a new version of one. */
export function AddPicture({ name: given, onClose }: { name?: string; onClose: () => void }) {
  const navigate = useNavigate()
  const queries = useQueryClient()
  const [file, setFile] = useState<File | null>(null)
  const [name, setName] = useState(given ?? '')
  const save = useMutation({
    mutationFn: async () => (file ? api.putPicture(name, file) : undefined),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ['pictures'] })
      void queries.invalidateQueries({ queryKey: ['picture', name] })
      onClose()
      void navigate(`/pictures/${name}`)
    },
  })
  const choose = (chosen: File | undefined) => {
    if (!chosen) return
    setFile(chosen)
    if (!given && !name)
      setName(
        chosen.name
          .replace(/\.[^.]*$/, '')
          .toLowerCase()
          .replace(/[^a-z0-9]+/g, '-')
          .replace(/^-|-$/g, ''),
      )
  }
  return (
    <Dialog open onClose={onClose} maxWidth="xs" fullWidth aria-labelledby="add-picture">
      <DialogTitle id="add-picture">{given ? `New version of ${given}` : 'Add a picture'}</DialogTitle>
      <Box
        component="form"
        onSubmit={(e) => {
          e.preventDefault()
          save.mutate()
        }}
      >
        <DialogContent sx={{ pt: 0 }}>
          <Button component="label" variant="outlined">
            {file ? file.name : 'Choose a file'}
            <input
              type="file"
              hidden
              accept="image/*,.svg,.webp,.tif,.tiff,.bmp"
              onChange={(e) => {
                choose(e.target.files?.[0])
                e.target.value = ''
              }}
            />
          </Button>
          <Typography variant="body2" color="text.secondary" sx={{ mt: 1 }}>
            PNG, JPEG, GIF, WebP, BMP, TIFF or SVG, at most 32 MB.
          </Typography>
          {!given && (
            <TextField
              fullWidth
              label="Name"
              value={name}
              onChange={(e) => setName(e.target.value)}
              margin="dense"
              helperText="Lower-case letters, digits and hyphens"
            />
          )}
          {given && (
            <Typography sx={{ mt: 1 }}>A template keeps the version that it uses until you update it.</Typography>
          )}
          <Trouble error={save.error} />
        </DialogContent>
        <DialogActions>
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" variant="contained" disabled={!file || !name || save.isPending}>
            {given ? 'Save the version' : 'Add it'}
          </Button>
        </DialogActions>
      </Box>
    </Dialog>
  )
}
