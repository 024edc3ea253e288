'use strict'
/*
 * The recorder: somebody presses on the compose field, the account and the quotation, and it finds selectors for them that hold for
 * other messages too. Nothing of what stands in them is kept but where they are. Start with Recorder.start.
 */
/* global Placing */
// eslint-disable-next-line no-unused-vars
const Recorder = (() => {
  const quote = (text) => `"${text.replace(/["\\]/g, '\\$&')}"`

  /** Whether a name looks made up for one message, or by a build: long numbers, or letters and digits mixed. */
  const passing = (name) => /\d{3,}|^[\d:_-]|^(?=.*\d)(?=.*[a-z])[a-z\d]{6,}$|[:.]/i.test(name) || name.length > 40

  /** Selectors for one element by what it is, the lasting ones first. */
  function candidates(element) {
    const tag = element.localName
    const list = []
    const id = element.id
    if (id && !passing(id)) list.push('#' + CSS.escape(id))
    const begin = /^([a-z][a-z_-]{3,})\d+$/i.exec(id)
    if (begin) list.push(`${tag}[id^=${quote(begin[1])}]`)
    for (const name of [
      'name',
      'data-part',
      'data-testid',
      'data-role',
      'aria-label',
      'itemprop',
      'role',
      'type',
      'title',
    ]) {
      const value = element.getAttribute(name)
      if (value && value.length < 60) list.push(`${tag}[${name}=${quote(value)}]`)
    }
    for (const name of element.getAttributeNames()) {
      if (/^data-/.test(name) && !/part|testid|role/.test(name)) list.push(`${tag}[${name}]`)
    }
    for (const name of element.classList)
      if (!passing(name) && !/focus|hover|active|select/i.test(name)) list.push(`${tag}.${CSS.escape(name)}`)
    if (element.isContentEditable && element.hasAttribute('contenteditable')) list.push(`${tag}[contenteditable]`)
    list.push(tag)
    return list
  }

  /** A selector by which a root finds exactly this element first. */
  function selectorFor(element, root) {
    const own = candidates(element)
    for (const selector of own) if (Placing.all(root, selector).length === 1) return selector
    for (let above = element.parentElement; above && above !== root; above = above.parentElement) {
      for (const outer of candidates(above).filter((s) => Placing.all(root, s).length === 1)) {
        for (const inner of own) {
          const joined = `${outer} ${inner}`
          if (Placing.all(root, joined).length === 1) return joined
        }
      }
    }
    return own.find((selector) => Placing.one(root, selector) === element) ?? ''
  }

  /** The element of a field that can be written in: the outermost editable one. */
  function fieldAt(element) {
    if (element.closest?.('textarea')) return element.closest('textarea')
    let field = element
    if (!field.isContentEditable) return null
    while (field.parentElement?.isContentEditable) field = field.parentElement
    return field
  }

  /** The part of a field that begins the quotation: what was pressed on, up to what the field holds itself. */
  function partAt(element, field) {
    let part = element
    while (part.parentElement && part.parentElement !== field) {
      if (part.localName === 'blockquote' || part.hasAttribute('data-part') || part.id) break
      part = part.parentElement
    }
    return part === field ? null : part
  }

  /** The element that shows the account: the smallest above what was pressed on in which an address can be read. */
  function accountAt(element) {
    let at = element.closest('select,input') ?? element
    for (let up = 0; at && up < 4; up++, at = at.parentElement) {
      if (Placing.addressesIn(at).length > 0) return { element: at }
      for (const name of at.getAttributeNames())
        if (Placing.addressesIn(at, name).length > 0) return { element: at, attribute: name }
    }
    return null
  }

  const style = `
    :host { all: initial }
    div { position: fixed; z-index: 2147483647; inset-inline: 0; bottom: 0; display: flex; gap: 10px; align-items: center; flex-wrap: wrap;
      padding: 10px 16px; background: #262220; color: #ece6dd; font: 15px/1.4 system-ui, sans-serif; border-top: 3px solid #e59aa4 }
    p { margin: 0; flex: 1 1 280px }
    textarea { flex: 1 1 100%; height: 120px; font: 13px/1.4 monospace; color: inherit; background: #1d1a18; border: 1px solid #6b625b }
    button { font: inherit; color: #1d1a18; background: #e59aa4; border: 0; border-radius: 4px; padding: 4px 12px; cursor: pointer }
    button:focus-visible { outline: 2px solid #fff; outline-offset: 2px }`

  let running = null

  /** Begins to record on a page. texts are the sentences of the bar; tried takes what was recorded, to be tried at once. */
  function start(page, texts, tried) {
    running?.end()
    const host = page.createElement('div')
    const shadow = host.attachShadow({ mode: 'open' })
    const bar = page.createElement('div')
    bar.setAttribute('role', 'dialog')
    bar.setAttribute('aria-live', 'polite')
    const rules = page.createElement('style')
    rules.textContent = style
    shadow.append(rules, bar)
    page.documentElement.append(host)
    const steps = ['field', 'account', 'quotation', 'signature', 'done']
    let at = 0
    let field = null
    const compose = {}
    const documents = () => [page, ...Placing.all(page, 'iframe').map(Placing.documentIn).filter(Boolean)]
    const listening = new Set()

    const listen = () => {
      for (const doc of documents()) {
        if (listening.has(doc)) continue
        listening.add(doc)
        for (const kind of ['pointerdown', 'mousedown', 'click']) doc.addEventListener(kind, press, true)
      }
    }
    const end = () => {
      for (const doc of listening)
        for (const kind of ['pointerdown', 'mousedown', 'click']) doc.removeEventListener(kind, press, true)
      clearInterval(timer)
      host.remove()
      running = null
    }
    const button = (text, does) => {
      const b = page.createElement('button')
      b.textContent = text
      b.addEventListener('click', does)
      return b
    }
    const say = (text) => {
      const p = page.createElement('p')
      p.textContent = text
      return p
    }

    function draw(note = '') {
      const step = steps[at]
      bar.replaceChildren(say(note || texts[step]))
      if (step === 'quotation' || step === 'signature') bar.append(button(texts.skip, () => go(1)))
      if (at > 0 && step !== 'done') bar.append(button(texts.back, () => go(-1)))
      if (step === 'done') {
        const text = page.createElement('textarea')
        text.readOnly = true
        text.value = JSON.stringify(compose, null, 2)
        text.setAttribute('aria-label', texts.done)
        bar.append(
          button(texts.copy, () => {
            text.select()
            page.execCommand('copy')
          }),
        )
        bar.append(button(texts.end, end), text)
        return
      }
      bar.append(button(texts.end, end))
    }

    function go(by) {
      at += by
      if (steps[at] === 'done') {
        host.dataset.recorded = JSON.stringify(compose)
        tried([{ ...compose }])
      }
      draw()
    }

    const takes = {
      field(element) {
        field = fieldAt(element)
        if (!field) return texts.field
        const doc = field.ownerDocument
        delete compose.frame
        if (doc !== page) compose.frame = selectorFor(doc.defaultView.frameElement, page)
        compose.field = selectorFor(field, doc)
        return ''
      },
      account(element) {
        const found = accountAt(element)
        if (!found) return texts.wrong
        compose.account = selectorFor(found.element, page)
        delete compose.accountAttribute
        if (found.attribute) compose.accountAttribute = found.attribute
        return ''
      },
      quotation(element) {
        const part = field.contains(element) && partAt(element, field)
        if (!part) return texts.quotation
        compose.quotation = selectorFor(part, field)
        return ''
      },
      signature(element) {
        const part = field.contains(element) && partAt(element, field)
        if (!part) return texts.signature
        compose.signature = selectorFor(part, field)
        return ''
      },
    }

    function press(event) {
      const element = event.composedPath()[0]
      if (element === host || event.composedPath().includes(host) || steps[at] === 'done') return
      event.preventDefault()
      event.stopImmediatePropagation()
      if (event.type !== 'click') return
      const wrong = takes[steps[at]](
        element instanceof element.ownerDocument.defaultView.Element ? element : element.parentElement,
      )
      if (wrong) draw(wrong)
      else go(1)
    }

    const timer = setInterval(listen, 500)
    listen()
    draw()
    running = { end }
  }

  return { start, selectorFor }
})()
