// A template as it stands in the editor.
import type { TemplateDetail } from '../api/api'

export interface Draft {
  source: string
  settings: string
  texts: Record<string, string>
}

export const files = { html: 'template.html', yaml: 'template.yaml', text: 'template.txt' } as const
export type File = keyof typeof files

/** What stands in a file of the draft. */
export function contentOf(draft: Draft, file: File): string {
  if (file === 'html') return draft.source
  return file === 'yaml' ? draft.settings : (draft.texts[files.text] ?? '')
}

/** The draft with another content in one of its files; a text form that is empty is none. */
export function withContent(draft: Draft, file: File, content: string): Draft {
  if (file === 'html') return { ...draft, source: content }
  if (file === 'yaml') return { ...draft, settings: content }
  const others = Object.entries(draft.texts).filter(([name]) => name !== files.text)
  return { ...draft, texts: Object.fromEntries(content.trim() === '' ? others : [...others, [files.text, content]]) }
}

/** Whether anything was changed since a version was saved. */
export function differs(draft: Draft, saved: TemplateDetail): boolean {
  return draft.source !== saved.source || draft.settings !== saved.settings || JSON.stringify(sorted(draft.texts)) !== JSON.stringify(sorted(saved.texts))
}

function sorted(texts: Record<string, string>): [string, string][] {
  return Object.entries(texts).sort(([a], [b]) => (a < b ? -1 : 1))
}
