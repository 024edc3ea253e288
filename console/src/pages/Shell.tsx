import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Link from '@mui/material/Link'
import Menu from '@mui/material/Menu'
import MenuItem from '@mui/material/MenuItem'
import Typography from '@mui/material/Typography'
import { useColorScheme } from '@mui/material/styles'
import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { NavLink, Outlet, ScrollRestoration } from 'react-router'
import { useSession } from '../access/session'
import { api, type Session } from '../api/api'

const pages = [
  { to: '/templates', label: 'Templates' },
  { to: '/people', label: 'People' },
  { to: '/pictures', label: 'Pictures' },
  { to: '/clients', label: 'Clients' },
  { to: '/packages', label: 'Packages' },
  { to: '/releases', label: 'Releases' },
  { to: '/desks', label: 'Desks' },
  { to: '/mail', label: 'Mail' },
  { to: '/settings', label: 'Settings' },
]

/** The frame around every page: the mark, the way to the pages, light or dark. */
export function Shell() {
  const session = useSession()
  if (!session) return null
  return (
    <Box sx={{ height: '100dvh', display: 'flex', flexDirection: 'column' }}>
      <Box
        component="header"
        sx={{
          display: 'flex',
          alignItems: 'center',
          gap: { xs: 1.5, sm: 4 },
          px: { xs: 1.5, sm: 3 },
          height: 52,
          flexShrink: 0,
          borderBottom: 1,
          borderColor: 'divider',
        }}
      >
        <Link
          href="#main"
          sx={{
            position: 'absolute',
            left: -9999,
            '&:focus': { left: 8, top: 8, bgcolor: 'background.paper', p: 1, zIndex: 10 },
          }}
        >
          Skip to the page
        </Link>
        <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.2 }}>
          <img src="/mark.svg" width="26" height="26" alt="" />
          <Typography
            component="span"
            sx={{
              fontWeight: 660,
              fontSize: '1.08rem',
              letterSpacing: '-0.01em',
              display: { xs: 'none', sm: 'inline' },
            }}
          >
            Missivum
          </Typography>
        </Box>
        <Box component="nav" aria-label="Pages" sx={{ display: 'flex', gap: 0.5, height: '100%' }}>
          {pages.map((page) => (
            <Box
              key={page.to}
              component={NavLink}
              to={page.to}
              sx={{
                px: 1.5,
                display: 'flex',
                alignItems: 'center',
                color: 'text.secondary',
                textDecoration: 'none',
                borderBottom: '3px solid transparent',
                borderTop: '3px solid transparent',
                fontWeight: 540,
                '&:hover': { color: 'text.primary' },
                '&.active': { color: 'text.primary', borderBottomColor: 'primary.main' },
              }}
            >
              {page.label}
            </Box>
          ))}
        </Box>
        <Box sx={{ flex: 1 }} />
        {session.kind === 'account' && <Who session={session} />}
        <ModeButton />
      </Box>
      <Box component="main" id="main" tabIndex={-1} sx={{ flex: 1, minHeight: 0, overflow: 'auto', outline: 'none' }}>
        <Outlet />
      </Box>
      <ScrollRestoration />
    </Box>
  )
}

/** Who has signed in, with the way to their account and out. */
function Who({ session }: { session: Session }) {
  const [at, setAt] = useState<HTMLElement | null>(null)
  const out = useMutation({ mutationFn: () => api.signOut(false), onSuccess: () => location.assign('/sign-in') })
  return (
    <>
      <Button color="inherit" size="small" aria-haspopup="menu" onClick={(e) => setAt(e.currentTarget)}>
        {session.title || session.name}
      </Button>
      <Menu anchorEl={at} open={at !== null} onClose={() => setAt(null)}>
        <MenuItem component={NavLink} to="/account" onClick={() => setAt(null)}>
          Your account
        </MenuItem>
        <MenuItem onClick={() => out.mutate()}>Sign out</MenuItem>
      </Menu>
    </>
  )
}

function ModeButton() {
  const { mode, systemMode, setMode } = useColorScheme()
  const dark = (mode === 'system' ? systemMode : mode) === 'dark'
  return (
    <Button color="inherit" size="small" onClick={() => setMode(dark ? 'light' : 'dark')}>
      {dark ? 'Light' : 'Dark'}
    </Button>
  )
}
