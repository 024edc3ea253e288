'use strict'
/*
 * Placing a signature in a compose field: finding the field, the account and the quotation, recognising what stands there, putting a
 * signature in and taking it out. Nothing here knows of the add-on or the service. Start with Placing.place.
 */
// eslint-disable-next-line no-unused-vars
const Placing = (() => {
  /** Says in the markup which situation's signature a block is, and in which composition it was placed. */
  const MARK = 'data-placed-signature'

  const spaces = /[\s\u00a0\u00ad\u200b-\u200f\u2060\ufeff]+/g
  /** A text without anything that mail programs change about white space. */
  const squash = (text) => text.replace(spaces, '')

  const one = (root, selector) => {
    try {
      return selector && root?.querySelector ? root.querySelector(selector) : null
    } catch {
      return null
    }
  }
  const all = (root, selector) => {
    try {
      return selector && root ? [...root.querySelectorAll(selector)] : []
    } catch {
      return []
    }
  }

  /** The document in a frame; null while it is not there or is another site's. */
  const documentIn = (frame) => {
    try {
      return frame?.contentDocument?.body ? frame.contentDocument : null
    } catch {
      return null
    }
  }

  const isText = (field) => field.localName === 'textarea'

  const canBeWritten = (field) => (isText(field) ? !field.readOnly && !field.disabled : field.isContentEditable)

  const seen = (element) => element.getClientRects().length > 0

  /** The compose fields of a page that can be written in: one for each pane and way of recognising. */
  function fields(page, compose) {
    const found = []
    for (const def of compose) {
      for (const pane of def.pane ? all(page, def.pane) : [page]) {
        if (def.when && !one(pane, def.when)) continue
        const frame = one(pane, def.frame)
        if (def.frame && !(frame && seen(frame))) continue
        const field = one(def.frame ? documentIn(frame) : pane, def.field)
        if (field && canBeWritten(field) && (def.frame || seen(field)) && !found.some((f) => f.field === field)) {
          found.push({ def, pane, field })
        }
      }
    }
    return found
  }

  const address = /[^\s<>"'(),;:[\]\\]+@[^\s<>"'(),;:[\]\\]+\.[^\s<>"'(),;:[\]\\]+/g

  /** The mail addresses that an element shows or holds, folded. */
  function addressesIn(element, attribute) {
    if (!element) return []
    let text = ''
    if (attribute) text = element.getAttribute(attribute) ?? ''
    else if (element.localName === 'select') {
      const chosen = element.selectedOptions[0]
      text = chosen ? `${chosen.textContent} ${chosen.value}` : ''
    } else text = element.value ?? element.textContent
    return (text.match(address) ?? []).map((a) => a.toLowerCase())
  }

  /** The sender's addresses in a composition; none where they cannot be read. */
  const accounts = ({ def, pane }) => addressesIn(one(pane, def.account), def.accountAttribute)

  const textOf = (node) => (node.nodeType === Node.TEXT_NODE ? node.data : node.textContent)

  /** The block before a node, beyond blank ones; null for none. */
  function blockBefore(node) {
    let before = node.previousSibling
    while (before && squash(textOf(before)) === '') before = before.previousSibling
    return before
  }

  /** The highest element in the field that begins with a node; a blank line before it is a place to write, and stays before it. */
  function highest(node, field) {
    let top = node
    const begins = (n) => {
      let before = n.previousSibling
      while (before?.nodeType === Node.TEXT_NODE && squash(before.data) === '') before = before.previousSibling
      return !before
    }
    while (top.parentNode !== field && begins(top)) top = top.parentNode
    return top
  }

  const rule = /^\s*[-\u2013\u2014_]{3,}[^\n]{0,80}[-\u2013\u2014_]{3,}\s*$/
  const longestIntroduction = 300

  /** Whether an element is certainly a quotation. */
  function isQuoted(element, def) {
    try {
      return element.localName === 'blockquote' || Boolean(def.quotation && element.matches?.(def.quotation))
    } catch {
      return false
    }
  }

  /** Whether a node stands in something that is certainly quoted. */
  function quoted(node, field, def) {
    for (let at = node; at && at !== field; at = at.parentNode) if (isQuoted(at, def)) return true
    return false
  }

  const follows = (a, b) => Boolean(b.compareDocumentPosition(a) & Node.DOCUMENT_POSITION_FOLLOWING) && !b.contains(a)

  const first = (nodes) =>
    nodes.reduce(
      (best, n) => (!best || n.compareDocumentPosition(best) & Node.DOCUMENT_POSITION_FOLLOWING ? n : best),
      null,
    )

  /**
   * Where the quotation begins: the node before which nothing of it stands; null for none. A line of dashes with words in it begins a
   * forwarded message, and the line before a quotation that ends with a colon belongs to it.
   */
  function quotation(field, def, own = []) {
    const starts = [...all(field, def.quotation), ...all(field, 'blockquote')]
    const sure = first(starts)
    const walker = field.ownerDocument.createTreeWalker(field, NodeFilter.SHOW_TEXT)
    for (let text = walker.nextNode(); text && !(sure && follows(text, sure)); text = walker.nextNode()) {
      if (rule.test(text.data) && /\p{L}/u.test(text.data) && !own.some((b) => b.contains(text))) {
        starts.push(text)
        break
      }
    }
    const start = first(starts.filter((n) => !own.some((b) => b.contains(n))))
    if (!start) return null
    const top = highest(start, field)
    const introduction = blockBefore(top)
    if (
      introduction &&
      !own.some((b) => b.contains(introduction) || introduction.contains(b)) &&
      /:\s*$/.test(textOf(introduction)) &&
      squash(textOf(introduction)).length < longestIntroduction &&
      /[\d@]/.test(textOf(introduction))
    ) {
      return highest(introduction, field)
    }
    return top
  }

  /** Where a quotation begins in plain text; its length for none. */
  function quotationInText(text) {
    const lines = text.split('\n')
    let at = 0
    for (let i = 0; i < lines.length; i++) {
      const line = lines[i] ?? ''
      if (/^>/.test(line) || (rule.test(line) && /\p{L}/u.test(line))) {
        const before = lines[i - 1] ?? ''
        return /^>/.test(line) && /:\s*$/.test(before) && before.trim() ? at - before.length - 1 : at
      }
      at += line.length + 1
    }
    return text.length
  }

  /** What a signature is recognised by: its text, or its pictures where it has hardly any. */
  function trait(element) {
    const text = squash(element.textContent)
    return text.length >= 10
      ? text
      : text +
          all(element, 'img')
            .map((i) => i.getAttribute('src'))
            .join(' ')
  }

  /** Elements that a signature can stand in, as a page wrote it anew. */
  const blocks = new Set(['div', 'table', 'section', 'p'])

  const parsed = new Map()
  /** A signature's markup as a tree without anything that acts. */
  function treeOf(html) {
    if (!parsed.has(html)) {
      const body = new DOMParser().parseFromString(html, 'text/html').body
      for (const element of all(body, 'script,iframe,object,embed,form,link,meta,style,base,template')) element.remove()
      for (const element of all(body, '*')) {
        for (const { name, value } of [...element.attributes]) {
          if (/^on/i.test(name) || /^\s*(javascript|vbscript):/i.test(value)) element.removeAttribute(name)
        }
      }
      if (parsed.size > 50) parsed.clear()
      parsed.set(html, body)
    }
    return parsed.get(html)
  }

  const traitOf = (signature) => trait(treeOf(signature.html))

  /** Where a quotation ends: its last element that is certainly quoted; null for one of which nobody can tell, as of a forwarded message. */
  function quotationEnd(field, def, start) {
    const sure = [...all(field, def.quotation), ...all(field, 'blockquote')]
    const forwarded = !sure.some((e) => start.contains(e) || e.contains(start)) && rule.test(textOf(start))
    return forwarded ? null : (sure.reduce((last, e) => (!last || follows(e, last) ? e : last), null) ?? start)
  }

  /** Whether an element belongs to a quotation with a start and an end. */
  function inQuotation(element, field, def, start, end) {
    if (!start || quoted(element, field, def)) return Boolean(start)
    if (start.contains(element)) return true
    return follows(element, start) && (!end || follows(end, element))
  }

  /**
   * Elements in a field that are signatures of ours: marked in this composition, or, outside the quotation, marked or with exactly the
   * text of a known one.
   */
  function ours(field, def, traits, id) {
    if (isText(field)) return []
    const marked = all(field, `[${MARK}]`).filter((e) => !e.parentElement.closest(`[${MARK}]`))
    const own = marked.filter((e) => e.getAttribute(MARK).endsWith(' ' + id))
    const start = quotation(field, def, own)
    const end = start && quotationEnd(field, def, start)
    const found = own.concat(marked.filter((e) => !own.includes(e) && !inQuotation(e, field, def, start, end)))
    // what is quoted can be long: it is not gone into
    const outside = (e) =>
      e === start || found.includes(e) || isQuoted(e, def) ? NodeFilter.FILTER_REJECT : NodeFilter.FILTER_ACCEPT
    const walker = field.ownerDocument.createTreeWalker(field, NodeFilter.SHOW_ELEMENT, outside)
    for (let e = walker.nextNode(); e; e = walker.nextNode()) {
      if (start && follows(e, start)) {
        if (!end) break
        if (inQuotation(e, field, def, start, end)) continue
      }
      if (!blocks.has(e.localName) || found.some((f) => f.contains(e) || e.contains(f))) continue
      if (traits.includes(trait(e))) found.push(e)
    }
    return found
  }

  /** The text of a field that is not quoted. */
  function ownText(field, def) {
    if (isText(field)) return field.value.slice(0, quotationInText(field.value))
    const start = quotation(field, def)
    const range = field.ownerDocument.createRange()
    range.selectNodeContents(field)
    if (start) range.setEndBefore(start)
    let text = range.toString()
    if (start && !start.contains(field.lastChild)) {
      // below the quotation, where some people write
      const sure = [...all(field, def.quotation), ...all(field, 'blockquote')].filter((e) => e.isConnected)
      const last = sure.at(-1)
      if (last) {
        range.selectNodeContents(field)
        range.setStartAfter(last)
        text += '\n' + range.toString()
      }
    }
    return text
  }

  /** The lines of a signature by which it is recognised in another form. */
  function linesOf(signature) {
    return signature.text
      .split('\n')
      .map(squash)
      .filter((line) => line.length >= 6)
  }

  /** Whether most lines of a signature stand in a field outside what is quoted. */
  function present(field, def, signatures) {
    const text = squash(ownText(field, def))
    return signatures.some((s) => {
      const lines = linesOf(s)
      return lines.length > 0 && lines.filter((l) => text.includes(l)).length * 10 >= lines.length * 6
    })
  }

  const blankLine = (doc) => {
    const line = doc.createElement('div')
    line.append(doc.createElement('br'))
    return line
  }

  const separator = '-- \n' // RFC 3676, section 4.3

  /** Runs a change without moving what is selected or scrolled. */
  function keeping(field, change) {
    const selection = field.ownerDocument.getSelection()
    const range = selection?.rangeCount ? selection.getRangeAt(0) : null
    const at = range && {
      node: range.startContainer,
      offset: range.startOffset,
      end: range.endContainer,
      endOffset: range.endOffset,
    }
    change()
    if (at && at.node.isConnected && at.end.isConnected && field.contains(at.node)) {
      try {
        selection.setBaseAndExtent(at.node, at.offset, at.end, at.endOffset)
      } catch {
        // the place is gone; the page keeps its own
      }
    }
  }

  /** Writes into a text area so that the page notices. */
  function write(field, value, grows, by) {
    const { selectionStart: start, selectionEnd: end, scrollTop } = field
    const moved = (n) => (n > grows ? n + by : n)
    field.value = value
    field.setSelectionRange(moved(start), moved(end))
    field.scrollTop = scrollTop
    field.dispatchEvent(new InputEvent('input', { bubbles: true, inputType: 'insertReplacementText' }))
  }

  /** Where a signature goes: before a node of the field, or at its end. */
  function point(field, def, place) {
    const start = quotation(field, def)
    return start && place === 'above' ? { parent: start.parentNode, before: start } : { parent: field, before: null }
  }

  /** A signature as an element of a document, marked. */
  function blockOf(doc, signature, id) {
    const block = doc.createElement('div')
    block.setAttribute(MARK, `${signature.situation} ${id}`)
    for (const node of treeOf(signature.html).childNodes) block.append(doc.importNode(node, true))
    return block
  }

  /** How many blank lines a signature needs before it: one below what is written, or one to write in and one below that. */
  function blankLinesBefore(parent, before) {
    let lines = 0
    let previous = before ? before.previousSibling : parent.lastChild
    for (
      ;
      previous && squash(textOf(previous)) === '' && previous.localName !== 'img' && !one(previous, 'img');
      previous = previous.previousSibling
    ) {
      if (previous.nodeType !== Node.TEXT_NODE) lines++
    }
    return Math.max(0, (previous ? 1 : 2) - lines)
  }

  /** Puts a signature into a field, and gives what was put there. */
  function place(field, def, signature, where, id) {
    if (isText(field)) return placeText(field, signature, where)
    const doc = field.ownerDocument
    const block = blockOf(doc, signature, id)
    const { parent, before } = point(field, def, where)
    let gap = null // the blank line between the signature and what is quoted
    keeping(field, () => {
      for (let lines = blankLinesBefore(parent, before); lines > 0; lines--) parent.insertBefore(blankLine(doc), before)
      parent.insertBefore(block, before)
      if (before && squash(textOf(before)) !== '') parent.insertBefore((gap = blankLine(doc)), before)
    })
    return { block, gap, trait: trait(block), situation: signature.situation }
  }

  function placeText(field, signature, where) {
    const start = where === 'above' ? quotationInText(field.value) : field.value.length
    const before = field.value.slice(0, start)
    const after = field.value.slice(start)
    const lead = before === '' || before.endsWith('\n') ? (before.trim() === '' && before === '' ? '\n' : '') : '\n\n'
    const text = `${lead}${separator}${signature.text.trimEnd()}\n${after && '\n'}`
    write(field, before + text + after, start, text.length)
    return { text: text.slice(lead.length), situation: signature.situation }
  }

  /** Whether what was placed is as it was placed. */
  const untouched = (field, placed) =>
    placed.block
      ? field.contains(placed.block) && trait(placed.block) === placed.trait
      : field.value.split(placed.text).length === 2

  /** Takes out what was placed; false, with nothing done, where it was changed since: then the person's words are in it. */
  function remove(field, placed) {
    if (!untouched(field, placed)) return false
    if (placed.block) {
      keeping(field, () => {
        placed.block.remove()
        if (placed.gap?.isConnected && squash(placed.gap.textContent) === '') placed.gap.remove()
      })
    } else {
      const start = field.value.indexOf(placed.text)
      write(field, field.value.replace(placed.text, ''), start, -placed.text.length)
    }
    return true
  }

  /** Puts another signature in the place of the one that was placed. */
  function replace(field, placed, signature, id) {
    if (!untouched(field, placed)) return null
    if (!placed.block) {
      const text = `${separator}${signature.text.trimEnd()}\n${placed.text.endsWith('\n\n') ? '\n' : ''}`
      write(
        field,
        field.value.replace(placed.text, () => text),
        field.value.indexOf(placed.text),
        text.length - placed.text.length,
      )
      return { text, situation: signature.situation }
    }
    const block = blockOf(field.ownerDocument, signature, id)
    keeping(field, () => placed.block.replaceWith(block))
    return { block, gap: placed.gap, trait: trait(block), situation: signature.situation }
  }

  return {
    MARK,
    squash,
    one,
    all,
    documentIn,
    isText,
    fields,
    accounts,
    addressesIn,
    quotation,
    quotationInText,
    ours,
    ownText,
    present,
    trait,
    traitOf,
    place,
    remove,
    replace,
    untouched,
    seen,
  }
})()
