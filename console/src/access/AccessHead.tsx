import type { ReactNode } from 'react'
import { PageHead, PageTabs } from '../pages/parts'
import { useSession } from './session'

const pages = [
  { to: '/settings/organisation', label: 'Organisation', permission: undefined },
  { to: '/settings/accounts', label: 'Accounts', permission: 'accounts' },
  { to: '/settings/keys', label: 'Keys', permission: 'keys' },
  { to: '/settings/record', label: 'Record', permission: 'record' },
] as const

/** The head of a page about settings and access, with the way to the others. */
export function AccessHead({ title, children, actions }: { title: string; children?: ReactNode; actions?: ReactNode }) {
  const session = useSession()
  return (
    <>
      <PageTabs
        label="About settings and access"
        pages={pages.filter((p) => !p.permission || session?.permissions.includes(p.permission))}
      />
      <PageHead title={title} actions={actions}>
        {children}
      </PageHead>
    </>
  )
}
