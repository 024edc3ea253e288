import type { ReactNode } from 'react'
import { PageHead, PageTabs } from '../pages/parts'

const pages = [
  { to: '/mail/rules', label: 'Rules' },
  { to: '/mail/try', label: 'Try a message' },
  { to: '/mail/rehearsal', label: 'Rehearsal' },
  { to: '/mail/messages', label: 'What happened' },
]

/** The head of a page about mail, with the way to the others. */
export function MailHead({ title, children, actions }: { title: string; children?: ReactNode; actions?: ReactNode }) {
  return (
    <>
      <PageTabs label="About mail" pages={pages} />
      <PageHead title={title} actions={actions}>
        {children}
      </PageHead>
    </>
  )
}

const colours = {
  stamped: 'success.main',
  enclosed: 'success.main',
  unchanged: 'text.secondary',
  refused: 'error.main',
  held: 'warning.main',
}

export type Outcome = keyof typeof colours

export const outcomes: [Outcome, string][] = [
  ['stamped', 'stamped'],
  ['enclosed', 'enclosed'],
  ['unchanged', 'unchanged'],
  ['refused', 'refused'],
  ['held', 'held back'],
]

/** The colour of an outcome. */
export function outcomeColour(of: Outcome): string {
  return colours[of]
}
