import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import type { ReactNode } from 'react'
import { NavLink } from 'react-router'
import type { TemplateSummary } from '../api/api'
import { codeFont } from '../theme'

/** The head of a page: its title, one sentence, and what can be done. */
export function PageHead({ title, children, actions }: { title: string; children?: ReactNode; actions?: ReactNode }) {
  return (
    <Box sx={{ display: 'flex', alignItems: 'flex-end', gap: 3, flexWrap: 'wrap', mb: 3 }}>
      <Box sx={{ flex: 1, minWidth: 260 }}>
        <Typography variant="h1">{title}</Typography>
        {children && (
          <Typography color="text.secondary" sx={{ mt: 0.5, maxWidth: 720 }}>
            {children}
          </Typography>
        )}
      </Box>
      {actions && <Box sx={{ display: 'flex', gap: 1.5, alignItems: 'center' }}>{actions}</Box>}
    </Box>
  )
}

/** The way to pages that belong together. */
export function PageTabs({ label, pages }: { label: string; pages: { to: string; label: string }[] }) {
  return (
    <Box component="nav" aria-label={label} sx={{ display: 'flex', flexWrap: 'wrap', gap: 2.5, mb: 2.5 }}>
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
  )
}

/** A page's content at a readable width. */
export function Page({ children, wide }: { children: ReactNode; wide?: boolean }) {
  return <Box sx={{ px: { xs: 2, sm: 4 }, py: 3.5, maxWidth: wide ? 'none' : 1180, mx: 'auto' }}>{children}</Box>
}

/** A part of a page, under a heading. */
export function Section({ title, children }: { title: string; children: ReactNode }) {
  return (
    <Box component="section" aria-label={title} sx={{ mt: 4 }}>
      <Typography variant="h2" sx={{ mb: 1.5 }}>
        {title}
      </Typography>
      {children}
    </Box>
  )
}

/** An error in the service's own words. */
export function Trouble({ error }: { error: unknown }) {
  if (!error) return null
  return (
    <Alert severity="error" variant="outlined" sx={{ whiteSpace: 'pre-line', my: 1 }}>
      {error instanceof Error ? error.message : String(error)}
    </Alert>
  )
}

/** What went wrong beside a change that was made. */
export function Warnings({ of }: { of?: string[] }) {
  if (!of?.length) return null
  return (
    <Alert severity="warning" variant="outlined" sx={{ whiteSpace: 'pre-line', my: 1 }}>
      {of.join('\n')}
    </Alert>
  )
}

const signs = { breaks: '✕', degrades: '△', note: '·', fine: '✓' }
const colours = { breaks: 'error.main', degrades: 'warning.main', note: 'text.secondary', fine: 'success.main' }

/** One of the templates, by its title. */
export function TemplateField({
  templates,
  value,
  onChange,
}: {
  templates?: TemplateSummary[]
  value: string
  onChange: (name: string) => void
}) {
  return (
    <TextField
      select
      size="small"
      label="Template"
      value={value}
      onChange={(e) => onChange(e.target.value)}
      sx={{ minWidth: 180 }}
    >
      {(templates ?? []).map((t) => (
        <MenuItem key={t.name} value={t.name}>
          {t.title}
        </MenuItem>
      ))}
    </TextField>
  )
}

/** One of several, with a blank for all: with its label above it, or within a sentence. */
export function Choice({
  label,
  value,
  blank,
  options,
  inline,
  onChange,
}: {
  label: string
  value: string
  blank?: string
  options: [string, string][]
  inline?: boolean
  onChange: (value: string) => void
}) {
  return (
    <TextField
      select
      size="small"
      variant={inline ? 'standard' : 'outlined'}
      label={inline ? undefined : label}
      value={value}
      sx={inline ? undefined : { minWidth: 190 }}
      slotProps={{
        select: { displayEmpty: true, SelectDisplayProps: inline ? { 'aria-label': label } : undefined },
        inputLabel: { shrink: true },
      }}
      onChange={(e) => onChange(e.target.value)}
    >
      {blank && <MenuItem value="">{blank}</MenuItem>}
      {options.map(([v, says]) => (
        <MenuItem key={v} value={v}>
          {says}
        </MenuItem>
      ))}
    </TextField>
  )
}

/** Source to be read and copied. */
export function SourceBox({ label, height, children }: { label: string; height?: number; children: string }) {
  return (
    <Box
      component="pre"
      tabIndex={0}
      aria-label={label}
      sx={{
        fontFamily: codeFont,
        fontSize: 12.5,
        m: 0,
        p: 1.5,
        border: 1,
        borderColor: 'divider',
        bgcolor: 'background.paper',
        maxHeight: height,
        overflow: 'auto',
      }}
    >
      {children}
    </Box>
  )
}

/** A severity by sign, word and colour. */
export function Severity({ of, children }: { of: keyof typeof signs; children?: ReactNode }) {
  return (
    <Box component="span" sx={{ color: colours[of], fontWeight: 580, whiteSpace: 'nowrap' }}>
      <span aria-hidden="true">{signs[of]} </span>
      {children ?? of}
    </Box>
  )
}

/** A number with spaces between groups of three digits. */
export function grouped(n: number): string {
  return String(n).replace(/\B(?=(\d{3})+(?!\d))/g, '\u00a0')
}

export function count(n: number, one: string, many: string): string {
  return n === 1 ? `1 ${one}` : `${grouped(n)} ${many}`
}

export function when(iso: string): string {
  return new Date(iso).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'short' })
}
