import Box from '@mui/material/Box'
import Link from '@mui/material/Link'
import Tab from '@mui/material/Tab'
import Tabs from '@mui/material/Tabs'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as RouterLink, useParams, useSearchParams } from 'react-router'
import { Act } from '../access/session'
import { api } from '../api/api'
import { Page, PageHead, Trouble } from '../pages/parts'
import { Cropper } from './Cropper'
import { DarkBackground } from './DarkBackground'
import { inShort } from './facts'
import { Compress } from './Compress'
import { AddPicture } from './PicturesPage'
import { Probe } from './Probe'
import { Slicer } from './Slicer'
import { Versions } from './Versions'

const tabs = ['facts', 'fit', 'compress', 'slice', 'dark', 'versions'] as const
const labels = {
  facts: 'Facts',
  fit: 'Fit and crop',
  compress: 'Compress',
  slice: 'Slice',
  dark: 'Dark background',
  versions: 'Versions and uses',
}

export function PicturePage() {
  const { name = '' } = useParams()
  const [search, setSearch] = useSearchParams()
  const tab = tabs.find((t) => t === search.get('part')) ?? 'facts'
  const picture = useQuery({ queryKey: ['picture', name], queryFn: () => api.picture(name) })
  const [adding, setAdding] = useState(false)
  const latest = picture.data?.versions[0]
  return (
    <Page wide>
      <PageHead
        title={name}
        actions={
          <Act needs="pictures" variant="outlined" onClick={() => setAdding(true)}>
            New version
          </Act>
        }
      >
        <Link component={RouterLink} to="/pictures">
          Pictures
        </Link>
        {latest && (
          <>
            {' '}
            · version {latest.number}, {inShort(latest.facts)}
          </>
        )}
      </PageHead>
      <Trouble error={picture.error} />
      {picture.data && latest && (
        <>
          <Tabs
            value={tab}
            onChange={(_, t: string) => setSearch({ part: t }, { replace: true })}
            aria-label="Tools"
            variant="scrollable"
            sx={{ mb: 2, borderBottom: 1, borderColor: 'divider' }}
          >
            {tabs.map((t) => (
              <Tab key={t} value={t} label={labels[t]} />
            ))}
          </Tabs>
          <Box key={latest.sha256}>
            {tab === 'facts' && <Probe record={picture.data} latest={latest} />}
            {tab === 'fit' && <Cropper record={picture.data} latest={latest} />}
            {tab === 'compress' && <Compress record={picture.data} latest={latest} />}
            {tab === 'slice' && <Slicer record={picture.data} latest={latest} />}
            {tab === 'dark' && <DarkBackground record={picture.data} latest={latest} />}
            {tab === 'versions' && <Versions record={picture.data} />}
          </Box>
        </>
      )}
      {!picture.data && !picture.error && <Typography>Opening the picture ...</Typography>}
      {adding && <AddPicture name={name} onClose={() => setAdding(false)} />}
    </Page>
  )
}
