import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Checkbox from '@mui/material/Checkbox'
import IconButton from '@mui/material/IconButton'
import Menu from '@mui/material/Menu'
import MenuItem from '@mui/material/MenuItem'
import { useTheme } from '@mui/material/styles'
import useMediaQuery from '@mui/material/useMediaQuery'
import { useState, type ReactNode } from 'react'
import { Group, Panel, Separator, useDefaultLayout } from 'react-resizable-panels'

/** The panes that can be closed. The source stays. */
export const closable = ['Look', 'Findings', 'Budgets'] as const
export type Closable = (typeof closable)[number]

const stored = 'missivum.workbench.closed'

/** Which panes are closed; the browser remembers it. */
export function useClosed(): { closed: Closable[]; toggle: (pane: Closable) => void } {
  const [closed, setClosed] = useState<Closable[]>(() => {
    const names = (localStorage.getItem(stored) ?? '').split(',')
    return closable.filter((pane) => names.includes(pane))
  })
  const toggle = (pane: Closable) => {
    const next = closed.includes(pane) ? closed.filter((c) => c !== pane) : [...closed, pane]
    localStorage.setItem(stored, next.join(','))
    setClosed(next)
  }
  return { closed, toggle }
}

/** A menu that opens and closes panes. */
export function PanesMenu({ closed, onToggle }: { closed: Closable[]; onToggle: (pane: Closable) => void }) {
  const [anchor, setAnchor] = useState<HTMLElement | null>(null)
  return (
    <>
      <Button color="inherit" onClick={(e) => setAnchor(e.currentTarget)} title="Which panes are open">
        Panes
      </Button>
      <Menu
        anchorEl={anchor}
        open={anchor !== null}
        onClose={() => setAnchor(null)}
        slotProps={{ list: { 'aria-label': 'Panes' } }}
      >
        {closable.map((pane) => (
          <MenuItem
            key={pane}
            role="menuitemcheckbox"
            aria-checked={!closed.includes(pane)}
            onClick={() => onToggle(pane)}
            dense
          >
            <Checkbox
              size="small"
              checked={!closed.includes(pane)}
              tabIndex={-1}
              sx={{ p: 0, mr: 1 }}
              slotProps={{ input: { 'aria-hidden': true } }}
            />
            {pane}
          </MenuItem>
        ))}
      </Menu>
    </>
  )
}

/** The source and the look above, the facts below, each as large as it was pulled; on a narrow screen one below the other. */
export function Panes({
  closed,
  source,
  look,
  findings,
  budgets,
}: {
  closed: Closable[]
  source: ReactNode
  look: ReactNode
  findings: ReactNode
  budgets: ReactNode
}) {
  const wide = useMediaQuery(useTheme().breakpoints.up('md'), { noSsr: true })
  const above = [
    { id: 'Source', content: source, size: 54 },
    { id: 'Look', content: look, size: 46 },
  ].filter((p) => !isClosed(closed, p.id))
  const below = [
    { id: 'Findings', content: findings, size: 54 },
    { id: 'Budgets', content: budgets, size: 46 },
  ].filter((p) => !isClosed(closed, p.id))
  const rows = below.length > 0 ? ['above', 'below'] : ['above']
  const layout = useDefaultLayout({ id: 'missivum.workbench.rows', panelIds: rows, storage: localStorage })
  if (!wide) {
    return (
      <Box sx={{ display: 'grid', gridTemplateColumns: 'minmax(0, 1fr)', gridAutoRows: 'auto' }}>
        {[...above, ...below].map((p) => (
          <Box key={p.id} sx={{ display: 'grid', height: p.id === 'Source' ? 420 : p.id === 'Look' ? 360 : 'auto' }}>
            {p.content}
          </Box>
        ))}
      </Box>
    )
  }
  return (
    <Group
      orientation="vertical"
      style={{ flex: 1, minHeight: 0 }}
      defaultLayout={layout.defaultLayout}
      onLayoutChanged={layout.onLayoutChanged}
    >
      <Panel id="above" minSize="20" defaultSize="58">
        <Row id="above" panes={above} />
      </Panel>
      {below.length > 0 && <Edge label="Height of the source" />}
      {below.length > 0 && (
        <Panel id="below" minSize="12" defaultSize="42">
          <Row id="below" panes={below} />
        </Panel>
      )}
    </Group>
  )
}

function isClosed(closed: Closable[], id: string): boolean {
  return closed.some((c) => c === id)
}

function Row({ id, panes }: { id: string; panes: { id: string; content: ReactNode; size: number }[] }) {
  const layout = useDefaultLayout({
    id: `missivum.workbench.${id}`,
    panelIds: panes.map((p) => p.id),
    storage: localStorage,
  })
  return (
    <Group
      orientation="horizontal"
      style={{ height: '100%' }}
      defaultLayout={layout.defaultLayout}
      onLayoutChanged={layout.onLayoutChanged}
    >
      {panes.flatMap((p, i) => [
        i > 0 && <Edge key={`before ${p.id}`} label={`Width of ${panes[i - 1]?.id ?? ''}`} upright />,
        <Panel key={p.id} id={p.id} minSize="18" defaultSize={String(p.size)}>
          <Box sx={{ height: '100%', display: 'grid' }}>{p.content}</Box>
        </Panel>,
      ])}
    </Group>
  )
}

/** What is pulled to make a pane larger; the arrow keys move it too. */
function Edge({ label, upright }: { label: string; upright?: boolean }) {
  return (
    <Box
      component={Separator}
      aria-label={label}
      sx={{
        [upright ? 'width' : 'height']: '5px',
        bgcolor: 'divider',
        cursor: upright ? 'col-resize' : 'row-resize',
        '&:hover, &:focus-visible, &[data-separator=active]': { bgcolor: 'primary.main', outline: 'none' },
      }}
    />
  )
}

interface PaneProps {
  label: string
  head: ReactNode
  foot?: ReactNode
  children: ReactNode
  scroll?: boolean
  onClose?: () => void
}

/** One pane: its head, what it shows, and a button that closes it. */
export function Pane({ label, head, foot, children, scroll, onClose }: PaneProps) {
  return (
    <Box
      component="section"
      aria-label={label}
      sx={{
        display: 'flex',
        flexDirection: 'column',
        minHeight: 0,
        minWidth: 0,
        borderBottom: { xs: '1px solid var(--mui-palette-divider)', md: 0 },
        overflow: 'hidden',
      }}
    >
      <Box
        sx={{
          display: 'flex',
          alignItems: 'center',
          minHeight: 35,
          borderBottom: 1,
          borderColor: 'divider',
          flexShrink: 0,
        }}
      >
        <Box sx={{ flex: 1, minWidth: 0, display: 'flex', alignItems: 'center', flexWrap: 'wrap' }}>{head}</Box>
        {onClose && (
          <IconButton
            size="small"
            onClick={onClose}
            aria-label={`Close ${label}`}
            title={`Close ${label}; Panes opens it again`}
            sx={{ width: 28, height: 28, fontSize: 16, mr: 0.5 }}
          >
            ×
          </IconButton>
        )}
      </Box>
      <Box
        tabIndex={scroll ? 0 : undefined}
        sx={{ flex: 1, minHeight: 0, overflow: scroll ? 'auto' : 'hidden', bgcolor: 'background.paper' }}
      >
        {children}
      </Box>
      {foot}
    </Box>
  )
}
