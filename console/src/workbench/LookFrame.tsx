import Box from '@mui/material/Box'
import { useMemo } from 'react'
import type { Look } from '../api/api'
import { codeFont } from '../theme'

/** The signature in a frame that can run nothing, load nothing but pictures of the service, and lead nowhere. */
export function LookFrame({ look, title }: { look: Look; title: string }) {
  const page = useMemo(() => framed(look), [look])
  return (
    <Box sx={{ height: '100%', overflow: 'auto', bgcolor: '#ffffff' }}>
      <iframe
        title={title}
        sandbox=""
        srcDoc={page}
        style={{ border: 0, display: 'block', width: look.width > 0 ? look.width : '100%', minWidth: '100%', height: '100%', background: '#ffffff' }}
      />
    </Box>
  )
}

function framed(look: Look): string {
  const policy = `default-src 'none'; img-src ${window.location.origin}/api/v1/templates/ data:; style-src 'unsafe-inline'`
  const head = `<!doctype html><meta charset="utf-8"><meta http-equiv="Content-Security-Policy" content="${policy}"><style>body{margin:20px;background:#fff;color:#000}pre{font:13px/1.5 ${codeFont};white-space:pre-wrap}</style>`
  if (look.form === 'text') return `${head}<pre>${escaped(look.body)}</pre>`
  return head + look.body
}

function escaped(text: string): string {
  return text.replace(/&/g, '&amp;').replace(/</g, '&lt;')
}
