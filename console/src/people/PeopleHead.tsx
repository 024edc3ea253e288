import Box from '@mui/material/Box'
import type { ReactNode } from 'react'
import { NavLink } from 'react-router'
import { PageHead } from '../pages/parts'

const pages = [
  { to: '/people', label: 'Everybody' },
  { to: '/people/faults', label: 'Faults' },
  { to: '/people/audiences', label: 'Audiences' },
  { to: '/people/assignments', label: 'Assignments' },
  { to: '/people/sources', label: 'Sources' },
  { to: '/people/runs', label: 'Runs' },
]

/** The head of a page about people, with the way to the others. */
export function PeopleHead({ title, children, actions }: { title: string; children?: ReactNode; actions?: ReactNode }) {
  return (
    <>
      <Box component="nav" aria-label="About people" sx={{ display: 'flex', flexWrap: 'wrap', gap: 2.5, mb: 2.5 }}>
        {pages.map((page) => (
          <Box
            key={page.to}
            component={NavLink}
            to={page.to}
            end
            sx={{
              color: 'text.secondary',
              textDecoration: 'none',
              borderBottom: '2px solid transparent',
              '&:hover': { color: 'text.primary' },
              '&.active': { color: 'text.primary', borderBottomColor: 'primary.main' },
            }}
          >
            {page.label}
          </Box>
        ))}
      </Box>
      <PageHead title={title} actions={actions}>
        {children}
      </PageHead>
    </>
  )
}
