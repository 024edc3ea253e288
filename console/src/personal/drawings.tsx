import Box from '@mui/material/Box'
import type { ReactNode } from 'react'

/** What a step is about, as a small drawing. */
export type Drawing =
  | 'copy'
  | 'box'
  | 'paste'
  | 'source'
  | 'choose'
  | 'account'
  | 'save'
  | 'files'
  | 'close'
  | 'folder'
  | 'lock'
  | 'start'
  | 'picture'
  | 'check'

const paper = (
  <>
    <rect x="7" y="5" width="26" height="30" rx="2" />
    <path d="M12 13h16M12 18h16M12 23h9" />
  </>
)
const drawings: Record<Drawing, ReactNode> = {
  copy: (
    <>
      <rect x="6" y="10" width="20" height="24" rx="2" />
      <path d="M13 10V6h21v24h-8M11 18h10M11 23h10" />
    </>
  ),
  box: (
    <>
      <rect x="4" y="8" width="32" height="24" rx="2" />
      <path d="M4 14h32M10 20v7" />
    </>
  ),
  paste: (
    <>
      <rect x="5" y="14" width="30" height="21" rx="2" />
      <path d="M20 3v17M14 14l6 7 6-7" />
    </>
  ),
  source: (
    <>
      <rect x="4" y="7" width="32" height="26" rx="2" />
      <path d="M15 15l-5 5 5 5M25 15l5 5-5 5" />
    </>
  ),
  choose: (
    <>
      <circle cx="10" cy="13" r="4" />
      <circle cx="10" cy="28" r="4" />
      <path d="M8 13l2 2 3-4M8 28l2 2 3-4M19 13h15M19 28h15" />
    </>
  ),
  account: (
    <>
      <circle cx="20" cy="14" r="6" />
      <path d="M8 34c1-8 6-11 12-11s11 3 12 11" />
    </>
  ),
  save: (
    <>
      <path d="M6 21l9 9L34 9" />
    </>
  ),
  files: (
    <>
      <path d="M20 4v20M13 18l7 7 7-7M6 28v7h28v-7" />
    </>
  ),
  close: (
    <>
      <rect x="5" y="7" width="30" height="26" rx="2" />
      <path d="M14 14l12 12M26 14L14 26" />
    </>
  ),
  folder: (
    <>
      <path d="M4 33V9h12l3 4h17v20z" />
      <path d="M20 18v9M16 23l4 5 4-5" />
    </>
  ),
  lock: (
    <>
      <rect x="8" y="18" width="24" height="17" rx="2" />
      <path d="M13 18v-5a7 7 0 0114 0v5M20 25v4" />
    </>
  ),
  start: (
    <>
      {paper}
      <path d="M25 27l8 8" />
    </>
  ),
  picture: (
    <>
      <rect x="4" y="7" width="32" height="26" rx="2" />
      <circle cx="13" cy="15" r="3" />
      <path d="M4 29l10-8 7 6 6-5 9 8" />
    </>
  ),
  check: (
    <>
      <circle cx="17" cy="17" r="11" />
      <path d="M25 25l10 10M12 17l4 4 7-8" />
    </>
  ),
}

/** A step's drawing, in lines of the text's colour. It says nothing that the sentence beside it does not. */
export function StepDrawing({ drawing, strong }: { drawing: Drawing; strong?: boolean }) {
  return (
    <Box
      component="svg"
      viewBox="0 0 40 40"
      aria-hidden
      sx={{
        width: strong ? 52 : 34,
        height: strong ? 52 : 34,
        flexShrink: 0,
        fill: 'none',
        stroke: 'currentColor',
        strokeWidth: strong ? 1.8 : 1.6,
        strokeLinecap: 'round',
        strokeLinejoin: 'round',
        color: strong ? 'primary.main' : 'text.secondary',
      }}
    >
      {drawings[drawing]}
    </Box>
  )
}
