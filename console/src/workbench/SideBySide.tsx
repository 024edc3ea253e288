import { html } from '@codemirror/lang-html'
import { MergeView } from '@codemirror/merge'
import { EditorState } from '@codemirror/state'
import { EditorView, lineNumbers } from '@codemirror/view'
import Box from '@mui/material/Box'
import { useEffect, useRef } from 'react'
import { codeFont } from '../theme'

const look = EditorView.theme({
  '&': { fontSize: '12.5px' },
  '.cm-scroller': { fontFamily: codeFont },
  '.cm-gutters': {
    backgroundColor: 'var(--mui-palette-background-paper)',
    color: 'var(--mui-palette-text-secondary)',
    border: 'none',
  },
})

/** Two texts beside each other, what differs marked; neither can be edited. */
export function SideBySide({ before, after, label }: { before: string; after: string; label: string }) {
  const host = useRef<HTMLDivElement>(null)
  useEffect(() => {
    if (!host.current) return
    const side = (doc: string, name: string) => ({
      doc,
      extensions: [
        lineNumbers(),
        html(),
        look,
        EditorView.lineWrapping,
        EditorState.readOnly.of(true),
        EditorView.contentAttributes.of({ 'aria-label': name }),
      ],
    })
    const view = new MergeView({
      parent: host.current,
      a: side(before, `${label}, before`),
      b: side(after, `${label}, after`),
      collapseUnchanged: { margin: 3, minSize: 6 },
      gutter: true,
    })
    return () => view.destroy()
  }, [before, after, label])
  return (
    <Box
      ref={host}
      tabIndex={0}
      role="group"
      aria-label={label}
      sx={{ overflow: 'auto', maxHeight: 340, border: 1, borderColor: 'divider', '& .cm-mergeView': { minWidth: 640 } }}
    />
  )
}
