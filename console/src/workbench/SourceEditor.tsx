import { autocompletion, closeBrackets, closeBracketsKeymap, completionKeymap } from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands'
import { html, htmlLanguage } from '@codemirror/lang-html'
import { yaml } from '@codemirror/lang-yaml'
import {
  bracketMatching,
  foldGutter,
  foldKeymap,
  HighlightStyle,
  indentOnInput,
  syntaxHighlighting,
  syntaxTree,
} from '@codemirror/language'
import { lintGutter, lintKeymap, setDiagnostics, type Diagnostic } from '@codemirror/lint'
import { highlightSelectionMatches, searchKeymap } from '@codemirror/search'
import { EditorState } from '@codemirror/state'
import { drawSelection, EditorView, highlightActiveLine, hoverTooltip, keymap, lineNumbers } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import Box from '@mui/material/Box'
import { useEffect, useImperativeHandle, useRef, useState, type Ref } from 'react'
import type { Finding } from '../api/api'
import { codeFont } from '../theme'
import { completeLanguage, explain, pathAt, type Known, type Step } from './language'
import type { Bytes } from './LookFrame'
import { byteOffset, editorOffsets } from './places'

export interface EditorHandle {
  /** Shows a stretch of the source and puts the cursor there. */
  goTo(place: Bytes): void
  /** Puts a text where the cursor is. */
  insert(text: string): void
  /** Puts another text in the place of all, which can be undone. */
  replaceAll(text: string): void
}

/** Where the cursor is: bytes before it, and the elements around it from the outermost on. */
export interface Cursor {
  byte: number
  path: Step[]
}

interface Props {
  language: 'html' | 'yaml' | 'text'
  /** The content that the editor begins with; later ones are not looked at. */
  initial: string
  findings: Finding[]
  known: Known
  onChange: (text: string) => void
  onCursor: (cursor: Cursor) => void
  onSave: () => void
  onFormat: () => void
  ref: Ref<EditorHandle>
}

const labels = { html: 'Source of the template', yaml: 'Settings of the template', text: 'Text form by hand' }

const highlighting = HighlightStyle.define([
  { tag: [tags.tagName, tags.keyword], color: 'var(--mui-palette-primary-main)' },
  { tag: [tags.attributeName, tags.propertyName], color: 'var(--mui-palette-secondary-main)' },
  { tag: [tags.attributeValue, tags.string], color: 'var(--mui-palette-success-main)' },
  { tag: [tags.comment], color: 'var(--mui-palette-text-secondary)', fontStyle: 'italic' },
  { tag: [tags.number, tags.color, tags.unit], color: 'var(--mui-palette-warning-main)' },
])

const look = EditorView.theme({
  '&': {
    height: '100%',
    fontSize: '13px',
    backgroundColor: 'var(--mui-palette-background-paper)',
    color: 'var(--mui-palette-text-primary)',
  },
  '.cm-scroller': { fontFamily: codeFont, lineHeight: '1.55' },
  '.cm-gutters': {
    backgroundColor: 'var(--mui-palette-background-paper)',
    color: 'var(--mui-palette-text-secondary)',
    border: 'none',
  },
  '.cm-activeLine': { backgroundColor: 'color-mix(in srgb, var(--mui-palette-primary-main) 6%, transparent)' },
  '.cm-cursor': { borderLeftColor: 'var(--mui-palette-text-primary)' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': {
    backgroundColor: 'color-mix(in srgb, var(--mui-palette-primary-main) 22%, transparent) !important',
  },
  '.cm-panels, .cm-tooltip': {
    backgroundColor: 'var(--mui-palette-background-default)',
    color: 'var(--mui-palette-text-primary)',
    borderColor: 'var(--mui-palette-divider)',
  },
  '.cm-panel.cm-search': { padding: '7px 10px', fontFamily: '"Commissioner Variable", sans-serif', fontSize: '13px' },
  '.cm-panel.cm-search label': { fontSize: '13px' },
  '.cm-textfield': {
    font: 'inherit',
    color: 'inherit',
    backgroundColor: 'var(--mui-palette-background-paper)',
    border: '1px solid var(--mui-palette-divider)',
    padding: '3px 6px',
  },
  '.cm-button': {
    font: 'inherit',
    color: 'inherit',
    backgroundImage: 'none',
    backgroundColor: 'transparent',
    border: '1px solid var(--mui-palette-divider)',
    borderRadius: '2px',
    padding: '2px 9px',
  },
  '.cm-panel.cm-search [name=close]': { fontSize: '18px', right: '8px' },
  '.cm-diagnostic': { fontFamily: '"Commissioner Variable", sans-serif', fontSize: '13.5px', maxWidth: '520px' },
})

/** The source with the findings marked at their places. */
export function SourceEditor({ language, initial, findings, known, onChange, onCursor, onSave, onFormat, ref }: Props) {
  const host = useRef<HTMLDivElement>(null)
  const [first] = useState(initial)
  const view = useRef<EditorView | null>(null)
  const calls = useRef({ onChange, onCursor, onSave, onFormat, known })
  useEffect(() => {
    calls.current = { onChange, onCursor, onSave, onFormat, known }
  })

  useEffect(() => {
    if (!host.current) return
    const editor = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: first,
        extensions: [
          lineNumbers(),
          foldGutter(),
          lintGutter(),
          history(),
          drawSelection(),
          indentOnInput(),
          bracketMatching(),
          closeBrackets(),
          highlightActiveLine(),
          highlightSelectionMatches(),
          language === 'html'
            ? [html(), htmlLanguage.data.of({ autocomplete: completeLanguage(() => calls.current.known) })]
            : language === 'yaml'
              ? yaml()
              : [],
          syntaxHighlighting(highlighting),
          autocompletion(language === 'text' ? { override: [completeLanguage(() => calls.current.known)] } : {}),
          language === 'yaml' ? [] : hoverTooltip((view, at) => explain(view, at, calls.current.known)),
          look,
          EditorView.lineWrapping,
          EditorView.contentAttributes.of({ 'aria-label': labels[language] }),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) calls.current.onChange(update.state.doc.toString())
            const read = syntaxTree(update.startState) !== syntaxTree(update.state) // the parser got further
            if (language === 'html' && (update.docChanged || update.selectionSet || read)) {
              const at = update.state.selection.main.from
              calls.current.onCursor({
                byte: byteOffset(update.state.doc.toString(), at),
                path: pathAt(update.state, at),
              })
            }
          }),
          keymap.of([
            {
              key: 'Mod-s',
              preventDefault: true,
              run: () => {
                calls.current.onSave()
                return true
              },
            },
            {
              key: 'Shift-Alt-f',
              preventDefault: true,
              run: () => {
                calls.current.onFormat()
                return true
              },
            },
            ...closeBracketsKeymap,
            ...defaultKeymap,
            ...searchKeymap,
            ...historyKeymap,
            ...foldKeymap,
            ...completionKeymap,
            ...lintKeymap,
            indentWithTab,
          ]),
        ],
      }),
    })
    editor.scrollDOM.tabIndex = 0 // what scrolls must be reachable by key
    editor.scrollDOM.setAttribute('role', 'group')
    editor.scrollDOM.setAttribute('aria-label', 'Editor')
    view.current = editor
    return () => {
      editor.destroy()
      view.current = null
    }
  }, [language, first])

  useEffect(() => {
    const editor = view.current
    if (!editor) return
    editor.dispatch(setDiagnostics(editor.state, language === 'html' ? diagnostics(editor, findings) : []))
  }, [findings, language])

  useImperativeHandle(ref, () => ({
    goTo(place) {
      const editor = view.current
      if (!editor) return
      const [from = 0, to = 0] = editorOffsets(editor.state.doc.toString(), [place.start, place.end])
      editor.dispatch({
        selection: { anchor: from, head: Math.max(from, to) },
        effects: EditorView.scrollIntoView(from, { y: 'center' }),
      })
      editor.focus()
    },
    insert(text) {
      const editor = view.current
      if (!editor) return
      editor.dispatch(editor.state.replaceSelection(text))
      editor.focus()
    },
    replaceAll(text) {
      const editor = view.current
      if (!editor) return
      editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: text } })
      editor.focus()
    },
  }))

  return <Box ref={host} sx={{ height: '100%', minHeight: 0, overflow: 'hidden' }} />
}

function range(editor: EditorView, findings: Finding[]): [number, number][] {
  const places = editorOffsets(
    editor.state.doc.toString(),
    findings.flatMap((f) => [f.offset, f.end]),
  )
  return findings.map((_, i) => [places[2 * i] ?? 0, Math.max(places[2 * i] ?? 0, places[2 * i + 1] ?? 0)])
}

function diagnostics(editor: EditorView, findings: Finding[]): Diagnostic[] {
  return range(editor, findings).map(([from, to], i) => {
    const f = findings[i] as Finding
    return {
      from,
      to,
      severity: f.severity === 'breaks' ? 'error' : f.severity === 'degrades' ? 'warning' : 'info',
      source: f.check,
      message: `${f.message}\n${f.remedy}`,
    }
  })
}
