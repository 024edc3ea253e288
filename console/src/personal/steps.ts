import type { Drawing } from './drawings'
import type { MessageID } from './language'

/** One action of the person. */
export interface StepDef {
  say: MessageID
  drawing: Drawing
  does: 'copy' | 'source' | 'files' | 'picture' | 'check' | 'hand'
}

const ending: StepDef[] = [
  { say: 's.choose', drawing: 'choose', does: 'hand' },
  { say: 's.account', drawing: 'account', does: 'hand' },
  { say: 's.save', drawing: 'save', does: 'hand' },
  { say: 's.check', drawing: 'check', does: 'check' },
]

const filed: StepDef[] = [
  { say: 's.start', drawing: 'start', does: 'hand' },
  { say: 's.choose', drawing: 'choose', does: 'hand' },
  { say: 's.check', drawing: 'check', does: 'check' },
]

const ways: Record<string, StepDef[]> = {
  'paste-rendered': [
    { say: 's.copy', drawing: 'copy', does: 'copy' },
    { say: 's.open', drawing: 'box', does: 'hand' },
    { say: 's.paste', drawing: 'paste', does: 'hand' },
    ...ending,
  ],
  'paste-source': [
    { say: 's.source', drawing: 'source', does: 'source' },
    { say: 's.switch', drawing: 'box', does: 'hand' },
    { say: 's.pasteSource', drawing: 'paste', does: 'hand' },
    ...ending,
  ],
  'picture-and-link': [{ say: 's.picture', drawing: 'picture', does: 'picture' }, ...ending],
  'file-set': [
    { say: 's.files', drawing: 'files', does: 'files' },
    { say: 's.close', drawing: 'close', does: 'hand' },
    { say: 's.place', drawing: 'folder', does: 'hand' },
    ...filed,
  ],
  'page-file': [
    { say: 's.files', drawing: 'files', does: 'files' },
    { say: 's.pageFile', drawing: 'folder', does: 'hand' },
    { say: 's.account', drawing: 'account', does: 'hand' },
    { say: 's.save', drawing: 'save', does: 'hand' },
    { say: 's.check', drawing: 'check', does: 'check' },
  ],
  'wrapped-file': [
    { say: 's.files', drawing: 'files', does: 'files' },
    { say: 's.wrapped', drawing: 'lock', does: 'hand' },
    ...filed,
  ],
}

/** The steps of a way of installing, in their order. */
export const stepsOf = (way: string): StepDef[] => ways[way] ?? ways['paste-rendered'] ?? []
