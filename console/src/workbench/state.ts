// What the workbench knows of a template while it is edited: one reducer, plain values.
import { useCallback, useRef, useState } from 'react'
import type { Finding, Fixed, MapCell, MapRow, TemplateDetail } from '../api/api'
import { differs, draftOf, withContent, withoutPictures, withSource, type Draft, type File, type Taken } from './draft'

/** A draft with its number. Whatever is asked about a draft is kept under the number: it never means another draft. */
export interface Revision {
  number: number
  draft: Draft
}

/** What stands open over the workbench: one thing at a time. */
export type Open =
  | { what: 'nothing' }
  | { what: 'versions' }
  | { what: 'clean' }
  | { what: 'fix'; finding?: Finding } // without a finding: all that is safe
  | { what: 'cell'; client: string; row: MapRow; cell: MapCell }
  | { what: 'shrink'; client: string }
  | { what: 'sheet' }

export interface State {
  /** The version that the draft is compared with, and that a save follows. */
  saved: TemplateDetail
  revision: Revision
  /** Fixes that were taken since the last save, the latest first. */
  fixes: Taken[]
  /** What changed, in words; kept with the next version. */
  note: string
  /** The file that the editor shows. */
  file: File
  /** Grows when the editor has to begin anew, with the draft's content. */
  editor: number
  open: Open
}

export type Action =
  | { type: 'typed'; text: string }
  | { type: 'file chosen'; file: File }
  | { type: 'noted'; note: string }
  | { type: 'opened'; open: Open }
  | { type: 'closed' }
  | { type: 'version taken'; version: TemplateDetail }
  | { type: 'fix taken'; fixed: Fixed }
  | { type: 'settings taken'; settings: string }
  | { type: 'pictures put back' }
  | { type: 'saved'; version: TemplateDetail; sent: Draft; fixes: number }

export const nothing: Open = { what: 'nothing' }

let numbers = 0 // of all drafts since the console was loaded

function revised(draft: Draft): Revision {
  numbers += 1
  return { number: numbers, draft }
}

export function begin(template: TemplateDetail): State {
  return {
    saved: template,
    revision: revised(draftOf(template)),
    fixes: [],
    note: '',
    file: 'html',
    editor: 0,
    open: nothing,
  }
}

/** What was changed and not saved, by template: it outlasts the page, should that fail. */
const unsaved = new Map<string, State>()

/** The state with which a template is opened: with what was not saved, if the saved version is still the same. */
function reopened(template: TemplateDetail): State {
  const state = unsaved.get(template.name)
  if (state?.saved.number !== template.number) return begin(template)
  return { ...state, editor: state.editor + 1, open: nothing }
}

/** Lets go of what was changed and not saved. */
export function forget(name: string): void {
  unsaved.delete(name)
}

export function dirty(state: State): boolean {
  return differs(state.revision.draft, state.saved)
}

/** The state after an action. */
export function reduce(state: State, action: Action): State {
  const { draft } = state.revision
  switch (action.type) {
    case 'typed':
      return {
        ...state,
        revision: revised(
          state.file === 'html'
            ? withSource(draft, action.text, state.fixes)
            : withContent(draft, state.file, action.text),
        ),
      }
    case 'file chosen':
      return { ...state, file: action.file }
    case 'noted':
      return { ...state, note: action.note }
    case 'opened':
      return { ...state, open: action.open }
    case 'closed':
      return { ...state, open: nothing }
    case 'version taken':
      return {
        ...state,
        revision: revised(draftOf(action.version)),
        fixes: [],
        note: `Back to version ${action.version.number}`,
        editor: state.editor + 1,
        open: nothing,
      }
    case 'fix taken': {
      const { source, settings, pictures } = action.fixed
      const after = { ...draft, source, settings, pictures: { ...draft.pictures, ...pictures } }
      return { ...state, revision: revised(after), fixes: [{ before: draft, after }, ...state.fixes], open: nothing }
    }
    case 'settings taken': // they are another file than the editor's, unless it shows the settings
      return {
        ...state,
        revision: revised({ ...draft, settings: action.settings }),
        editor: state.editor + (state.file === 'yaml' ? 1 : 0),
        open: nothing,
      }
    case 'pictures put back': {
      const first = state.fixes.at(-1)
      const settings =
        first && draft.settings === state.fixes[0]?.after.settings ? first.before.settings : draft.settings
      return { ...state, revision: revised({ ...draft, settings, pictures: {} }) }
    }
    case 'saved': {
      // what was typed and fixed meanwhile is still to be saved
      const kept = withoutPictures(draft, action.sent.pictures)
      return {
        ...state,
        saved: action.version,
        revision: { ...state.revision, draft: kept },
        fixes: state.fixes.slice(0, state.fixes.length - action.fixes),
        note: '',
      }
    }
  }
}

/**
 * The state of a workbench. The editor acts outside of React's events, several times before the next drawing:
 * latest() is what stands at this moment.
 */
export function useWorkbench(template: TemplateDetail): {
  state: State
  latest: () => State
  act: (action: Action) => void
} {
  const [state, setState] = useState(() => reopened(template))
  const now = useRef(state)
  const act = useCallback((action: Action) => {
    now.current = reduce(now.current, action)
    if (dirty(now.current)) unsaved.set(now.current.saved.name, now.current)
    else forget(now.current.saved.name)
    setState(now.current)
  }, [])
  const latest = useCallback(() => now.current, [])
  return { state, latest, act }
}
