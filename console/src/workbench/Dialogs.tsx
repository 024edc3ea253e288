import type { Fixed, TemplateDetail } from '../api/api'
import { CellDialog } from './CellDialog'
import { CleanDialog } from './CleanDialog'
import { FixDialog } from './FixDialog'
import type { Sitter } from './questions'
import { SheetDialog } from './SheetDialog'
import { ShrinkDialog } from './ShrinkDialog'
import type { Open, State } from './state'
import { VersionsDialog } from './VersionsDialog'

interface Props {
  state: State
  sitter: Sitter
  onClose: () => void
  onVersion: (version: TemplateDetail) => void
  onClean: (source: string) => void
  onFixed: (fixed: Fixed) => void
  onCell: (cell: Extract<Open, { what: 'cell' }>) => void
  onSettings: (settings: string) => void
  onLine: (line: number) => void
}

/** The dialog that is open, if one is. */
export function Dialogs({ state, sitter, onClose, onVersion, onClean, onFixed, onCell, onSettings, onLine }: Props) {
  const { open, revision, saved } = state
  const template = saved.name
  switch (open.what) {
    case 'nothing':
      return null
    case 'versions':
      return (
        <VersionsDialog template={saved} revision={revision} sitter={sitter} onTake={onVersion} onClose={onClose} />
      )
    case 'clean':
      return <CleanDialog source={revision.draft.source} onTake={onClean} onClose={onClose} />
    case 'fix':
      return (
        <FixDialog template={template} revision={revision} finding={open.finding} onTake={onFixed} onClose={onClose} />
      )
    case 'cell':
      return (
        <CellDialog
          template={template}
          revision={revision}
          sitter={{ ...sitter, client: open.client }}
          row={open.row}
          cell={open.cell}
          onTake={() => onCell(open)}
          onClose={onClose}
        />
      )
    case 'shrink':
      return (
        <ShrinkDialog
          template={template}
          revision={revision}
          client={open.client}
          onTake={onSettings}
          onGo={onLine}
          onClose={onClose}
        />
      )
    case 'sheet':
      return (
        <SheetDialog
          template={template}
          draft={revision.draft}
          person={sitter.person}
          variant={sitter.variant}
          onClose={onClose}
        />
      )
  }
}
