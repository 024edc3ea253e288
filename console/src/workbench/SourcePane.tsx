import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import ButtonBase from '@mui/material/ButtonBase'
import Tab from '@mui/material/Tab'
import Tabs from '@mui/material/Tabs'
import Typography from '@mui/material/Typography'
import type { Ref } from 'react'
import type { Finding } from '../api/api'
import { contentOf, files, type File } from './draft'
import { InsertMenu } from './InsertMenu'
import type { Known } from './language'
import type { Bytes } from './LookFrame'
import { Pane } from './Panes'
import { byteOffset } from './places'
import { SourceEditor, type Cursor, type EditorHandle } from './SourceEditor'
import type { State } from './state'

interface Props {
  state: State
  findings: Finding[]
  known: Known
  cursor: Cursor
  onFile: (file: File) => void
  onType: (text: string) => void
  onCursor: (cursor: Cursor) => void
  onInsert: (text: string) => void
  onGo: (place: Bytes) => void
  onSave: () => void
  onIndent: () => void
  onClean: () => void
  editor: Ref<EditorHandle>
}

/** The three files of a template and what can be done with them. */
export function SourcePane({
  state,
  findings,
  known,
  cursor,
  onFile,
  onType,
  onCursor,
  onInsert,
  onGo,
  onSave,
  onIndent,
  onClean,
  editor,
}: Props) {
  const { file } = state
  const { draft } = state.revision
  return (
    <Pane
      label="Source"
      head={
        <>
          <Tabs
            value={file}
            onChange={(_, v: File) => onFile(v)}
            aria-label="File"
            sx={{ minHeight: 34, '& .MuiTab-root': { minHeight: 34, py: 0, textTransform: 'none' } }}
          >
            <Tab value="html" label={files.html} />
            <Tab value="yaml" label={files.yaml} />
            <Tab value="text" label={files.text} />
          </Tabs>
          <Box sx={{ ml: 'auto', pr: 1, display: 'flex', whiteSpace: 'nowrap' }}>
            {file !== 'yaml' && <InsertMenu known={known} onInsert={onInsert} />}
            {file === 'html' && (
              <Button size="small" color="inherit" onClick={onIndent} title="Shift+Alt+F">
                Indent
              </Button>
            )}
            {file === 'html' && (
              <Button size="small" color="inherit" onClick={onClean}>
                Clean
              </Button>
            )}
          </Box>
        </>
      }
      foot={file === 'html' && <PathOfCursor cursor={cursor} onGo={onGo} source={draft.source} />}
    >
      {file === 'text' && !draft.texts[files.text] && (
        <Typography variant="body2" color="text.secondary" sx={{ px: 1.5, py: 0.8 }}>
          The text form is made from the markup. What you write here is used instead: the same fields, line by line; a
          line is left out when all its fields are blank.
        </Typography>
      )}
      <SourceEditor
        key={`${file} ${state.editor}`}
        ref={editor}
        language={file}
        initial={contentOf(draft, file)}
        findings={findings}
        known={known}
        onChange={onType}
        onCursor={onCursor}
        onSave={onSave}
        onFormat={onIndent}
      />
    </Pane>
  )
}

/** The elements around the cursor; a press goes to one. */
function PathOfCursor({ cursor, source, onGo }: { cursor: Cursor; source: string; onGo: (place: Bytes) => void }) {
  return (
    <Box
      component="nav"
      aria-label="Elements around the cursor"
      sx={{
        display: 'flex',
        overflowX: 'auto',
        minHeight: 26,
        px: 1,
        borderTop: 1,
        borderColor: 'divider',
        fontSize: 12.5,
        alignItems: 'center',
      }}
    >
      {cursor.path.map((step, i) => (
        <Box key={`${step.from} ${i}`} sx={{ display: 'flex', alignItems: 'center', color: 'text.secondary' }}>
          {i > 0 && <span aria-hidden="true">›</span>}
          <ButtonBase
            onClick={() => onGo({ start: byteOffset(source, step.from), end: byteOffset(source, step.to) })}
            sx={{ font: 'inherit', px: 0.7, py: 0.3, color: 'text.primary' }}
          >
            {step.name}
          </ButtonBase>
        </Box>
      ))}
    </Box>
  )
}
