import Box from '@mui/material/Box'
import ToggleButton from '@mui/material/ToggleButton'
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup'
import Typography from '@mui/material/Typography'
import { useEffect, useMemo, useRef, useState } from 'react'
import type { PreparedSignature } from '../api/api'
import { useSay } from './language'

/** The signature as the program will show it, light or dark, in a frame that can run nothing and load nothing. */
export function LookBox({ signature }: { signature: PreparedSignature }) {
  const say = useSay()
  const [dark, setDark] = useState(false)
  const page = useMemo(() => framed(signature, dark), [signature, dark])
  const frame = useRef<HTMLIFrameElement>(null)
  const [height, setHeight] = useState(160)
  const fit = () => {
    const body = frame.current?.contentDocument?.body
    if (body) setHeight(Math.min(700, Math.max(60, body.scrollHeight + 2)))
  }
  useEffect(() => {
    addEventListener('resize', fit)
    return () => removeEventListener('resize', fit)
  }, [])
  return (
    <Box component="section" aria-labelledby="look" sx={{ mb: 3 }}>
      <Box sx={{ display: 'flex', alignItems: 'center', justifyContent: 'space-between', gap: 2, mb: 1 }}>
        <Typography variant="h2" id="look">
          {say('look.title')}
        </Typography>
        <ToggleButtonGroup
          size="small"
          exclusive
          value={dark}
          aria-labelledby="look"
          onChange={(_, value: boolean | null) => value !== null && setDark(value)}
        >
          <ToggleButton value={false}>{say('look.light')}</ToggleButton>
          <ToggleButton value={true}>{say('look.dark')}</ToggleButton>
        </ToggleButtonGroup>
      </Box>
      <Box
        component="iframe"
        ref={frame}
        title={say('look.title')}
        sandbox="allow-same-origin"
        srcDoc={page}
        onLoad={fit}
        sx={{
          display: 'block',
          width: '100%',
          height,
          border: 1,
          borderColor: 'divider',
          borderRadius: 1,
          bgcolor: dark ? signature.darkBackground : signature.lightBackground,
        }}
      />
    </Box>
  )
}

const escaped = (text: string) => text.replaceAll('&', '&amp;').replaceAll('<', '&lt;')

/** The page in the frame: pictures are written into it; nothing else is loaded, and links lead nowhere. */
function framed(s: PreparedSignature, dark: boolean): string {
  const body = dark ? s.dark : s.light
  const background = dark ? s.darkBackground : s.lightBackground
  return `<!doctype html><html><head><meta charset="utf-8">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; img-src data:; style-src 'unsafe-inline'">
<style>html, body { margin: 0; background: ${background} } body { padding: 14px; color: ${dark ? '#eee' : '#000'}; overflow-x: auto } a { pointer-events: none } pre { font: 13px/1.5 monospace; margin: 0 }</style>
</head><body>${s.asText ? `<pre dir="auto">${escaped(body)}</pre>` : body}</body></html>`
}
