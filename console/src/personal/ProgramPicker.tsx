import Box from '@mui/material/Box'
import ButtonBase from '@mui/material/ButtonBase'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import type { PersonalOverview } from '../api/api'
import { useSay } from './language'

const few = 9

/** Asks which program the person uses, in the organisation's own words. */
export function ProgramPicker({
  programs,
  onPick,
}: {
  programs: PersonalOverview['programs']
  onPick: (id: string) => void
}) {
  const say = useSay()
  const [search, setSearch] = useState('')
  const words = search.toLowerCase().split(/\s+/)
  const shown = programs.filter((p) => words.every((w) => `${p.title} ${p.about}`.toLowerCase().includes(w)))
  return (
    <section aria-labelledby="ask">
      <Typography variant="h2" id="ask" sx={{ mb: 1.5 }}>
        {say('program.ask')}
      </Typography>
      {programs.length > few && (
        <TextField
          type="search"
          label={say('program.search')}
          value={search}
          onChange={(event) => setSearch(event.target.value)}
          size="small"
          sx={{ mb: 1, minWidth: 260 }}
        />
      )}
      <Box component="ul" sx={{ listStyle: 'none', p: 0, m: 0, borderTop: 1, borderColor: 'divider' }}>
        {shown.map((p) => (
          <Box component="li" key={p.id} sx={{ borderBottom: 1, borderColor: 'divider' }}>
            <ButtonBase
              onClick={() => onPick(p.id)}
              sx={{
                width: '100%',
                textAlign: 'start',
                justifyContent: 'space-between',
                alignItems: 'baseline',
                gap: 2,
                py: 1.5,
                px: 1,
                '&:hover, &:focus-visible': { bgcolor: 'action.hover' },
                '&:focus-visible': { outline: '2px solid', outlineColor: 'primary.main' },
              }}
            >
              <span>
                <Typography component="span" sx={{ display: 'block', fontWeight: 600 }}>
                  {p.title}
                </Typography>
                <Typography component="span" variant="body2" color="text.secondary" sx={{ display: 'block' }}>
                  {p.about}
                </Typography>
              </span>
              {p.share > 0 && (
                <Typography component="span" variant="body2" color="text.secondary" sx={{ whiteSpace: 'nowrap' }}>
                  {say('program.share', { share: p.share })}
                </Typography>
              )}
            </ButtonBase>
          </Box>
        ))}
      </Box>
    </section>
  )
}
