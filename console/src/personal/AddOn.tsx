import Accordion from '@mui/material/Accordion'
import AccordionDetails from '@mui/material/AccordionDetails'
import AccordionSummary from '@mui/material/AccordionSummary'
import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api } from '../api/api'
import { copy, engine } from './clipboard'
import { useSay } from './language'

/** The add-on that puts the signature into each message: where it works, how to get it, and a key of one's own. */
export function AddOn({ changes }: { changes: boolean }) {
  const say = useSay()
  const addOn = useQuery({ queryKey: ['own-add-on'], queryFn: api.ownAddOn })
  const make = useMutation({ mutationFn: api.addOwnAddOnKey })
  const [done, setDone] = useState(false)
  const [own] = useState(engine)
  if (!addOn.data?.sites.length) return null
  const key = make.data?.key
  return (
    <Accordion
      disableGutters
      elevation={0}
      sx={{
        bgcolor: 'transparent',
        borderBottom: 1,
        borderColor: 'divider',
        '&::before': { display: 'none' },
      }}
    >
      <AccordionSummary expandIcon={<span aria-hidden>▾</span>} id="add-on">
        <Typography component="span">{say('addon.title')}</Typography>
      </AccordionSummary>
      <AccordionDetails sx={{ display: 'flex', flexDirection: 'column', alignItems: 'flex-start', gap: 1.5 }}>
        <Typography variant="body2">{say('addon.about', { sites: addOn.data.sites.join(', ') })}</Typography>
        <Box component="ol" sx={{ m: 0, pl: 2.5, display: 'grid', gap: 1.5 }}>
          <li>
            <Typography variant="body2" sx={{ mb: 0.5 }}>
              {say('addon.get')}
            </Typography>
            <Button
              variant="outlined"
              size="small"
              href={`/api/v1/add-on/add-on.${own === 'gecko' ? 'xpi' : 'crx'}`}
              download
            >
              {say('addon.file', { version: addOn.data.version })}
            </Button>
          </li>
          {changes && (
            <li>
              <Typography variant="body2" sx={{ mb: 0.5 }}>
                {say('addon.key')}
              </Typography>
              {make.error && <Alert severity="error">{make.error.message}</Alert>}
              {key ? (
                <Box data-key={key}>
                  <Button variant="contained" size="small" onClick={() => void copy(key).then(setDone)}>
                    {say(done ? 'copy.oneDone' : 'addon.copy')}
                  </Button>
                  <Typography variant="body2" role="status" sx={{ mt: 0.5 }}>
                    {say('addon.once')}
                  </Typography>
                </Box>
              ) : (
                <Button variant="outlined" size="small" loading={make.isPending} onClick={() => make.mutate()}>
                  {say('addon.make')}
                </Button>
              )}
            </li>
          )}
          <li>
            <Typography variant="body2">{say('addon.paste')}</Typography>
          </li>
        </Box>
      </AccordionDetails>
    </Accordion>
  )
}
