import Box from '@mui/material/Box'
import { useCallback, useEffect, useMemo, useRef } from 'react'
import type { Look } from '../api/api'
import { codeFont } from '../theme'

/** A stretch of the source, in bytes. */
export interface Bytes {
  start: number
  end: number
}

interface Props {
  look: Look
  title: string
  /** How large it is shown, in percent; 100 when left out. */
  zoom?: number
  /** Where the editor's cursor is; the smallest element around it is outlined. */
  cursor?: number
  /** Where in the source an element begins that is outlined instead; nothing is when it is not there. */
  element?: number
  /** A piece of the look was pressed. */
  onPick?: (place: Bytes) => void
}

/** The signature in a frame that can run nothing, load nothing but pictures of the service, and lead nowhere. */
export function LookFrame({ look, title, zoom = 100, cursor, element, onPick }: Props) {
  const page = useMemo(() => framed(look, zoom), [look, zoom])
  const width = (look.width * zoom) / 100
  const frame = useRef<HTMLIFrameElement>(null)
  const pick = useRef(onPick)
  const outlined = useRef<HTMLElement | null>(null)
  useEffect(() => {
    pick.current = onPick
  })

  const outline = useCallback(() => {
    outlined.current?.style.removeProperty('outline')
    outlined.current = null
    const inside = frame.current?.contentDocument
    if (!inside) return
    const around =
      element !== undefined
        ? elementsOf(inside, `[${sourceAttribute}^="${element}:"]`)[0]
        : cursor !== undefined && smallest(inside, cursor)
    if (!around) return
    around.style.setProperty('outline', '2px dotted #b4532a', 'important')
    around.scrollIntoView({ block: 'nearest' })
    outlined.current = around
  }, [cursor, element])
  useEffect(outline, [outline])

  // The frame runs no script of its own: it is watched from here.
  const watch = () => {
    const inside = frame.current?.contentDocument
    if (!inside) return
    EventTarget.prototype.addEventListener.call(inside, 'click', (event) => {
      event.preventDefault() // a link must not lead anywhere
      const element = (event.target as Element | null)?.closest(`[${sourceAttribute}]`)
      const place = element && bytesOf(element)
      if (place) pick.current?.(place)
    })
    outlined.current = null
    outline()
  }
  return (
    <Box sx={{ height: '100%', overflow: 'auto', bgcolor: look.background }}>
      <iframe
        ref={frame}
        title={title}
        sandbox="allow-same-origin"
        srcDoc={page}
        onLoad={watch}
        style={{
          borderTop: 0,
          borderBottom: 0,
          borderLeft: 0,
          display: 'block',
          width: width > 0 ? width : '100%',
          minWidth: width > 0 && look.width < 500 ? undefined : '100%',
          height: '100%',
          background: look.background,
          borderRight: look.width > 0 ? '1px dotted #888888' : 0,
        }}
      />
    </Box>
  )
}

/** Says on each element of a look which bytes of the source it came from. */
const sourceAttribute = 'data-source-bytes'

/** Elements of a document, even of one in which an element has the name of a method and stands in its place. */
function elementsOf(inside: Document, selector: string): HTMLElement[] {
  return Array.from(Document.prototype.querySelectorAll.call(inside, selector) as NodeListOf<HTMLElement>)
}

function bytesOf(element: Element): Bytes | undefined {
  const [start, end] = (element.getAttribute(sourceAttribute) ?? '').split(':').map(Number)
  return start === undefined || end === undefined || Number.isNaN(end) ? undefined : { start, end }
}

function smallest(inside: Document, at: number): HTMLElement | undefined {
  let best: HTMLElement | undefined
  let size = Infinity
  for (const element of elementsOf(inside, `[${sourceAttribute}]`)) {
    const place = bytesOf(element)
    if (place && place.start <= at && at < place.end && place.end - place.start <= size) {
      best = element
      size = place.end - place.start
    }
  }
  return best
}

function framed(look: Look, zoom: number): string {
  const policy = `default-src 'none'; img-src ${window.location.origin}/api/v1/templates/ data:; style-src 'unsafe-inline'`
  const head = `<!doctype html><meta charset="utf-8"><meta http-equiv="Content-Security-Policy" content="${policy}"><style>html{zoom:${zoom}%}body{margin:20px;background:${look.background};color:${look.text}}pre{font:13px/1.5 ${codeFont};white-space:pre-wrap}</style>`
  if (look.form !== 'html') return `${head}<pre>${escaped(look.body)}</pre>`
  return head + look.body
}

function escaped(text: string): string {
  return text.replace(/&/g, '&amp;').replace(/</g, '&lt;')
}
