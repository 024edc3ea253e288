import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import type { ReactNode } from 'react'
import { SourceBox } from '../pages/parts'

/** What is to be copied and kept elsewhere: a link, a key, recovery codes, the end of the record. */
export function ToKeep({
  label,
  text,
  children,
  onClose,
}: {
  label: string
  text: string
  children: ReactNode
  onClose?: () => void
}) {
  return (
    <Alert severity="success" variant="outlined" sx={{ mb: 2, '& .MuiAlert-message': { flex: 1 } }} onClose={onClose}>
      {children}
      <Box sx={{ my: 1 }}>
        <SourceBox label={label}>{text}</SourceBox>
      </Box>
      <Button size="small" onClick={() => void navigator.clipboard.writeText(text)}>
        Copy
      </Button>
    </Alert>
  )
}
