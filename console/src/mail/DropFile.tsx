import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Typography from '@mui/material/Typography'
import { useState, type ReactNode } from 'react'

/** A place onto which a file is dropped, or from which it is chosen. */
export function DropFile({
  label,
  accept,
  children,
  onFile,
}: {
  label: string
  accept: string
  children: ReactNode
  onFile: (file: File) => void
}) {
  const [over, setOver] = useState(false)
  return (
    <Box
      role="group"
      aria-label={label}
      onDragOver={(e) => {
        e.preventDefault()
        setOver(true)
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(e) => {
        e.preventDefault()
        setOver(false)
        const file = e.dataTransfer.files[0]
        if (file) onFile(file)
      }}
      sx={{
        border: '2px dashed',
        borderColor: over ? 'primary.main' : 'divider',
        p: 2.5,
        mb: 3,
        display: 'flex',
        gap: 2,
        alignItems: 'center',
        flexWrap: 'wrap',
      }}
    >
      <Button component="label" variant="outlined">
        {label}
        <input
          hidden
          type="file"
          accept={accept}
          aria-label={label}
          onChange={(e) => {
            const file = e.target.files?.[0]
            e.target.value = ''
            if (file) onFile(file)
          }}
        />
      </Button>
      <Typography color="text.secondary" sx={{ flex: 1, minWidth: 220 }}>
        {children}
      </Typography>
    </Box>
  )
}
