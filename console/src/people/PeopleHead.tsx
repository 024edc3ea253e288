import type { ReactNode } from 'react'
import { PageHead, PageTabs } from '../pages/parts'

const pages = [
  { to: '/people', label: 'Everybody' },
  { to: '/people/faults', label: 'Faults' },
  { to: '/people/audiences', label: 'Audiences' },
  { to: '/people/assignments', label: 'Assignments' },
  { to: '/people/sources', label: 'Sources' },
  { to: '/people/runs', label: 'Runs' },
  { to: '/people/invitations', label: 'Invitations' },
]

/** The head of a page about people, with the way to the others. */
export function PeopleHead({ title, children, actions }: { title: string; children?: ReactNode; actions?: ReactNode }) {
  return (
    <>
      <PageTabs label="About people" pages={pages} />
      <PageHead title={title} actions={actions}>
        {children}
      </PageHead>
    </>
  )
}
