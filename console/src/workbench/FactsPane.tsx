import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Tab from '@mui/material/Tab'
import Tabs from '@mui/material/Tabs'
import type { ReactNode } from 'react'
import type { Finding, Look, Report } from '../api/api'
import { Severity } from '../pages/parts'
import { FindingsList, JourneyLog } from './Facts'
import { Pane } from './Panes'

export type FactsTab = 'findings' | 'map' | 'space' | 'journey'

interface Props {
  tab: FactsTab
  onTab: (tab: FactsTab) => void
  report?: Report
  /** As the chosen client shows it; nothing while no client is chosen. */
  look?: Look
  onGo: (f: Finding) => void
  /** Not while another file than the source is shown: what is fixed is the source. */
  onFix?: (finding?: Finding) => void
  onClose: () => void
  map: ReactNode
  space: ReactNode
}

/** What the checks find, what survives where, what takes up the space, and what happens on the way. */
export function FactsPane({ tab, onTab, report, look, onGo, onFix, onClose, map, space }: Props) {
  const shown = tab === 'journey' && !look ? 'findings' : tab
  const fixes = report?.findings.filter((f) => f.fix?.safe).length ?? 0
  return (
    <Pane
      label="Findings"
      scroll
      onClose={onClose}
      head={
        <>
          <Tabs
            value={shown}
            onChange={(_, v: FactsTab) => onTab(v)}
            aria-label="Facts"
            sx={{
              minHeight: 34,
              '& .MuiTab-root': { minHeight: 34, minWidth: 0, px: 1.75, py: 0, textTransform: 'none' },
            }}
          >
            <Tab value="findings" label="Findings" />
            <Tab value="map" label="Survival" />
            <Tab value="space" label="Space" />
            {look && <Tab value="journey" label="Journey" />}
          </Tabs>
          {report && (
            <Box sx={{ ml: 'auto', pr: 1, display: 'flex', alignItems: 'center', gap: 1 }} aria-live="polite">
              {fixes > 0 && onFix && <Button size="small" onClick={() => onFix()}>{`Fix ${fixes}`}</Button>}
              <Severity of={report.findings.some((f) => f.severity === 'breaks') ? 'breaks' : 'fine'}>
                {report.summary}
              </Severity>
            </Box>
          )}
        </>
      }
    >
      {shown === 'map' && map}
      {shown === 'space' && space}
      {shown === 'journey' && look && <JourneyLog look={look} />}
      {shown === 'findings' && report && <FindingsList report={report} onGo={onGo} onFix={onFix} />}
    </Pane>
  )
}
