// Places in the source: the service counts bytes (UTF-8), the editor counts UTF-16 units.

/** Turns byte offsets into editor offsets; the answers are in the order of the questions. */
export function editorOffsets(source: string, bytes: number[]): number[] {
  const order = bytes.map((_, i) => i).sort((a, b) => (bytes[a] ?? 0) - (bytes[b] ?? 0))
  const answers = new Array<number>(bytes.length).fill(source.length)
  let at = 0
  let unit = 0
  let next = 0
  for (const letter of source) {
    while (next < order.length && at >= (bytes[order[next] ?? 0] ?? 0)) answers[order[next++] ?? 0] = unit
    const code = letter.codePointAt(0) ?? 0
    at += code < 0x80 ? 1 : code < 0x800 ? 2 : code < 0x10000 ? 3 : 4
    unit += letter.length
  }
  return answers
}

/** How many bytes stand before an editor offset. */
export function byteOffset(source: string, unit: number): number {
  return new TextEncoder().encode(source.slice(0, unit)).length
}
