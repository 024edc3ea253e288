import { autocompletion, closeBrackets, closeBracketsKeymap, completionKeymap, type CompletionContext } from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands'
import { html } from '@codemirror/lang-html'
import { yaml } from '@codemirror/lang-yaml'
import { bracketMatching, foldGutter, foldKeymap, HighlightStyle, indentOnInput, syntaxHighlighting } from '@codemirror/language'
import { lintGutter, lintKeymap, setDiagnostics, type Diagnostic } from '@codemirror/lint'
import { highlightSelectionMatches, searchKeymap } from '@codemirror/search'
import { EditorState } from '@codemirror/state'
import { drawSelection, EditorView, highlightActiveLine, keymap, lineNumbers } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import Box from '@mui/material/Box'
import { useEffect, useImperativeHandle, useRef, type Ref } from 'react'
import type { FieldReference, Finding } from '../api/api'
import { codeFont } from '../theme'
import { editorOffsets } from './places'

export interface EditorHandle {
  goTo(finding: Finding): void
}

interface Props {
  language: 'html' | 'yaml'
  initial: string
  findings: Finding[]
  fields?: FieldReference
  onChange: (text: string) => void
  onSave: () => void
  ref: Ref<EditorHandle>
}

const highlighting = HighlightStyle.define([
  { tag: [tags.tagName, tags.keyword], color: 'var(--mui-palette-primary-main)' },
  { tag: [tags.attributeName, tags.propertyName], color: 'var(--mui-palette-secondary-main)' },
  { tag: [tags.attributeValue, tags.string], color: 'var(--mui-palette-success-main)' },
  { tag: [tags.comment], color: 'var(--mui-palette-text-secondary)', fontStyle: 'italic' },
  { tag: [tags.number, tags.color, tags.unit], color: 'var(--mui-palette-warning-main)' },
])

const look = EditorView.theme({
  '&': { height: '100%', fontSize: '13px', backgroundColor: 'var(--mui-palette-background-paper)', color: 'var(--mui-palette-text-primary)' },
  '.cm-scroller': { fontFamily: codeFont, lineHeight: '1.55' },
  '.cm-gutters': { backgroundColor: 'var(--mui-palette-background-paper)', color: 'var(--mui-palette-text-secondary)', border: 'none' },
  '.cm-activeLine': { backgroundColor: 'color-mix(in srgb, var(--mui-palette-primary-main) 6%, transparent)' },
  '.cm-cursor': { borderLeftColor: 'var(--mui-palette-text-primary)' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': { backgroundColor: 'color-mix(in srgb, var(--mui-palette-primary-main) 22%, transparent) !important' },
  '.cm-panels, .cm-tooltip': { backgroundColor: 'var(--mui-palette-background-default)', color: 'var(--mui-palette-text-primary)', borderColor: 'var(--mui-palette-divider)' },
  '.cm-diagnostic': { fontFamily: '"Commissioner Variable", sans-serif', fontSize: '13.5px', maxWidth: '520px' },
})

/** Fields and modifiers are offered between double braces. */
function completeFields(reference: () => FieldReference | undefined) {
  return (context: CompletionContext) => {
    const before = context.matchBefore(/\{\{[^{}]*/)
    const known = reference()
    if (!before || !known) return null
    const word = context.matchBefore(/[A-Za-z0-9.-]*/)
    const modifier = before.text.includes('|')
    const options = modifier
      ? known.modifiers.map((m) => ({ label: m.name, detail: `${m.input || 'blank'} → ${m.output}`, info: m.doc, type: 'function' }))
      : known.fields.map((f) => ({ label: f.name, detail: f.title, info: `Blank for ${f.blank} people`, type: 'variable' }))
    return { from: word?.from ?? context.pos, options }
  }
}

/** The source with the findings marked at their places. */
export function SourceEditor({ language, initial, findings, fields, onChange, onSave, ref }: Props) {
  const host = useRef<HTMLDivElement>(null)
  const view = useRef<EditorView | null>(null)
  const calls = useRef({ onChange, onSave, fields })
  useEffect(() => {
    calls.current = { onChange, onSave, fields }
  })

  useEffect(() => {
    if (!host.current) return
    const editor = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: initial,
        extensions: [
          lineNumbers(), foldGutter(), lintGutter(), history(), drawSelection(), indentOnInput(), bracketMatching(), closeBrackets(), highlightActiveLine(), highlightSelectionMatches(),
          language === 'html' ? html() : yaml(),
          syntaxHighlighting(highlighting),
          autocompletion({ override: language === 'html' ? [completeFields(() => calls.current.fields)] : undefined }),
          look,
          EditorView.lineWrapping,
          EditorView.contentAttributes.of({ 'aria-label': language === 'html' ? 'Source of the template' : 'Settings of the template' }),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) calls.current.onChange(update.state.doc.toString())
          }),
          keymap.of([
            { key: 'Mod-s', preventDefault: true, run: () => { calls.current.onSave(); return true } },
            ...closeBracketsKeymap, ...defaultKeymap, ...searchKeymap, ...historyKeymap, ...foldKeymap, ...completionKeymap, ...lintKeymap, indentWithTab,
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
  }, [language, initial])

  useEffect(() => {
    const editor = view.current
    if (!editor) return
    editor.dispatch(setDiagnostics(editor.state, language === 'html' ? diagnostics(editor, findings) : []))
  }, [findings, language, initial])

  useImperativeHandle(ref, () => ({
    goTo(finding) {
      const editor = view.current
      if (!editor) return
      const [from, to] = range(editor, [finding])[0] ?? [0, 0]
      editor.dispatch({ selection: { anchor: from, head: to }, effects: EditorView.scrollIntoView(from, { y: 'center' }) })
      editor.focus()
    },
  }))

  return <Box ref={host} sx={{ height: '100%', minHeight: 0, overflow: 'hidden' }} />
}

function range(editor: EditorView, findings: Finding[]): [number, number][] {
  const places = editorOffsets(editor.state.doc.toString(), findings.flatMap((f) => [f.offset, f.end]))
  return findings.map((_, i) => [places[2 * i] ?? 0, Math.max(places[2 * i] ?? 0, places[2 * i + 1] ?? 0)])
}

function diagnostics(editor: EditorView, findings: Finding[]): Diagnostic[] {
  return range(editor, findings).map(([from, to], i) => {
    const f = findings[i] as Finding
    return {
      from, to,
      severity: f.severity === 'breaks' ? 'error' : f.severity === 'degrades' ? 'warning' : 'info',
      source: f.check,
      message: `${f.message}\n${f.remedy}`,
    }
  })
}
