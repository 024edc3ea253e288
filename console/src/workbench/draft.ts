// A template as it stands in the editor.
import type { TemplateDetail } from '../api/api'

export interface Draft {
  source: string
  settings: string
  texts: Record<string, string>
  /** Picture files that are new or other than the saved ones, in base64. */
  pictures: Record<string, string>
}

/** A version as it is when it is opened. */
export function draftOf(version: TemplateDetail): Draft {
  return { source: version.source, settings: version.settings, texts: version.texts, pictures: {} }
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

/** A fix that was taken: Undo in the source takes back what it did to settings and pictures too. */
export interface Taken {
  before: Draft
  after: Draft
}

/** The draft with another source. Where that is the source from before or after a fix, its settings and pictures go with it. */
export function withSource(draft: Draft, source: string, fixes: Taken[]): Draft {
  for (const { before, after } of fixes) {
    if (source === before.source && draft.source === after.source)
      return {
        ...before,
        settings: draft.settings === after.settings ? before.settings : draft.settings,
        texts: draft.texts,
      }
    if (source === after.source && draft.source === before.source)
      return {
        ...after,
        settings: draft.settings === before.settings ? after.settings : draft.settings,
        texts: draft.texts,
      }
  }
  return { ...draft, source }
}

/** The draft without the pictures that were saved. One that was made anew meanwhile stays. */
export function withoutPictures(draft: Draft, saved: Record<string, string>): Draft {
  return {
    ...draft,
    pictures: Object.fromEntries(Object.entries(draft.pictures).filter(([file, data]) => saved[file] !== data)),
  }
}

/** Whether anything was changed since a version was saved. */
export function differs(draft: Draft, saved: TemplateDetail): boolean {
  return (
    Object.keys(draft.pictures).length > 0 ||
    draft.source !== saved.source ||
    draft.settings !== saved.settings ||
    JSON.stringify(sorted(draft.texts)) !== JSON.stringify(sorted(saved.texts))
  )
}

function sorted(texts: Record<string, string>): [string, string][] {
  return Object.entries(texts).sort(([a], [b]) => (a < b ? -1 : 1))
}
