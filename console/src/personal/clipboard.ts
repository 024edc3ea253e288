// Copying exactly what was prepared. A copy event takes the markup letter by letter. The asynchronous clipboard interface is
// asked where a page may not copy so: some engines clean what is written by it. Selecting is the last resort.

/** The engine of this browser, told by what it can do; unknown for one whose copies were not measured. */
export type Engine = 'chromium' | 'gecko' | 'unknown'

/** Tells the engine. */
export function engine(): Engine {
  if (CSS.supports('-moz-appearance', 'none') && CSS.supports('-moz-orient', 'inline')) return 'gecko'
  if ('webkitRequestFileSystem' in window || 'userAgentData' in navigator) return 'chromium'
  return 'unknown'
}

/** Copies markup and text; false when the browser does not let the page do so. */
export async function copy(text: string, html?: string): Promise<boolean> {
  return byEvent(text, html) || (await byInterface(text, html))
}

function byEvent(text: string, html?: string): boolean {
  let taken = false
  const put = (event: ClipboardEvent) => {
    if (!event.clipboardData) return
    event.clipboardData.setData('text/plain', text)
    if (html !== undefined) event.clipboardData.setData('text/html', html)
    event.preventDefault()
    event.stopImmediatePropagation()
    taken = true
  }
  document.addEventListener('copy', put, { capture: true })
  // some engines copy only where something is marked
  const mark = document.createElement('span')
  mark.textContent = '\u00a0'
  mark.style.cssText = 'position: fixed; inset-block-start: 0; opacity: 0'
  document.body.append(mark)
  const selection = getSelection()
  const before = selection?.rangeCount ? selection.getRangeAt(0) : undefined
  selection?.selectAllChildren(mark)
  try {
    document.execCommand('copy')
  } catch {
    taken = false
  }
  mark.remove()
  selection?.removeAllRanges()
  if (before) selection?.addRange(before)
  document.removeEventListener('copy', put, { capture: true })
  return taken
}

async function byInterface(text: string, html?: string): Promise<boolean> {
  try {
    const parts: Record<string, Blob> = { 'text/plain': new Blob([text], { type: 'text/plain' }) }
    if (html !== undefined) parts['text/html'] = new Blob([html], { type: 'text/html' })
    await navigator.clipboard.write([new ClipboardItem(parts)])
    return true
  } catch {
    return false
  }
}

/** Marks an element for copying by hand. */
export function mark(element: Element) {
  getSelection()?.selectAllChildren(element)
}
