import TextField from '@mui/material/TextField'
import { useState } from 'react'
import { useSession } from '../access/session'

const key = 'acting-as'

/** Who acts, remembered in this browser. */
export function useActing(): [string, (name: string) => void] {
  const [name, setName] = useState(() => localStorage.getItem(key) ?? '')
  return [
    name,
    (next) => {
      localStorage.setItem(key, next)
      setName(next)
    },
  ]
}

/** The name of who acts: until there are accounts, everybody says it themselves. */
export function ActingField({ value, onChange }: { value: string; onChange: (name: string) => void }) {
  if (useSession()?.kind !== 'owner') return null
  return (
    <TextField
      size="small"
      label="Your name"
      value={value}
      sx={{ width: 170 }}
      onChange={(e) => onChange(e.target.value)}
    />
  )
}
