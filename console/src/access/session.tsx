import Button, { type ButtonProps } from '@mui/material/Button'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import type { ReactNode } from 'react'
import { api, type Permission, type Session } from '../api/api'

/** Who acts and what they may do. It is asked for again when the service says that something is not allowed. */
export function useSession(): Session | undefined {
  return useQuery({ queryKey: ['session'], queryFn: api.session, staleTime: 60_000 }).data
}

/** Whether who acts has a permission. */
export function useMay(permission: Permission): boolean {
  return useSession()?.permissions.includes(permission) ?? false
}

/** What only those see who have a permission. */
export function Allowed({ to, children }: { to: Permission; children: ReactNode }) {
  return useMay(to) ? children : null
}

/** A button that only those see who have the permission for what it does. */
export function Act({ needs, ...button }: ButtonProps & { needs: Permission }) {
  return useMay(needs) ? <Button {...button} /> : null
}

function either(words: string[]): string {
  return words.length < 2 ? words.join('') : `${words.slice(0, -1).join(', ')} or ${words[words.length - 1]}`
}

/** Says which role something needs, to those who do not have it. */
export function Lacking({ permission, children }: { permission: Permission; children: string }) {
  const session = useSession()
  if (!session || session.permissions.includes(permission)) return null
  const roles = session.grants.find((g) => g.permission === permission)?.roles ?? []
  return (
    <Typography color="text.secondary" sx={{ mb: 2 }}>
      {children} needs the role {either(roles)}; you are {either(session.roles)}.
    </Typography>
  )
}
