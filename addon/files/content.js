'use strict'
/*
 * Runs in the pages of the sites that the organisation names: watches for compose fields, and has the current signature placed in each.
 * It reads the fields that the organisation describes and nothing else of a page. Start with decide.
 */
/* global chrome, Placing, Recorder */
;(() => {
  /** What the service gave last, and what the person switched off; null until it is read. */
  let current = null
  let off = {}
  let site = null
  let opened = '' // release that was current when the page was opened
  let compositions = []
  let unknownField = false
  const pageOpened = Date.now()

  /** For how long after a composition begins the page itself, or another add-on, may still be filling it (ms). */
  const settling = 5000
  /** For how long after a key or a press a change counts as the person's (ms). */
  const hand = 1500
  /** How often a page may take a signature out again before it is left alone. */
  const mostReturned = 3

  // --- which site

  const escape = (text) => text.replace(/[.+?^${}()|[\]\\]/g, '\\$&')

  function matches(pattern, url) {
    const parts = /^(https?):\/\/(\*\.)?([^/:]+|\[[^\]]+\])(?::(\d+))?(\/.*)$/.exec(pattern)
    if (!parts) return false
    const [, scheme, wild, host, port, path] = parts
    const hostFits = url.hostname === host || (wild && url.hostname.endsWith('.' + host))
    const pathFits = new RegExp('^' + escape(path).replace(/\*/g, '.*') + '$').test(url.pathname + url.search)
    return url.protocol === scheme + ':' && Boolean(hostFits) && (!port || url.port === port) && pathFits
  }

  const siteOf = (sites, url) => sites.find((s) => s.matches.some((m) => matches(m, url))) ?? null

  // --- one composition

  const now = () => performance.now()

  const signaturesHere = () => current.signatures.filter((s) => s.site === site.id)

  /** The signatures that may stand in a field already, with those of before. */
  const known = () => [...signaturesHere(), ...(current.before ?? []).filter((s) => s.site === site.id)]

  function situationOf(c) {
    if (c.def.reply) return Placing.one(c.pane, c.def.reply) ? 'reply' : 'new'
    if (Placing.isText(c.field)) return Placing.quotationInText(c.field.value) < c.field.value.length ? 'reply' : 'new'
    return Placing.quotation(c.field, c.def, c.placed?.block ? [c.placed.block] : []) ? 'reply' : 'new'
  }

  function begin({ def, pane, field }) {
    const c = {
      def,
      pane,
      field,
      id: crypto.getRandomValues(new Uint32Array(1))[0].toString(36),
      situation: 'new',
      outcome: '',
      placed: null,
      begun: now(),
      touched: -Infinity, // when the person last pressed or typed in the field
      returned: 0,
      dismissed: false, // the person took the signature out
      draft: Boolean(Placing.one(pane, def.draft)), // opened again; one that is saved meanwhile is none
      follows: compositions.find((o) => o.ended && o.pane === pane && o.placed && now() - o.ended < 3000) ?? null,
      ended: 0,
    }
    const touch = (event) => event.isTrusted && (c.touched = now())
    const doc = field.ownerDocument
    for (const kind of ['beforeinput', 'keydown', 'paste', 'drop', 'cut'])
      field.addEventListener(kind, touch, { capture: true, passive: true })
    // what is saved or sent while the signature is not wanted any more must not hold it: look before the page does
    c.watch = new MutationObserver(() => (c.placed && !doc.contains(c.placed.block ?? field) ? decide(c) : soon(c)))
    c.watch.observe(field, { childList: true, subtree: true, characterData: true })
    compositions.push(c)
    c.situation = situationOf(c)
    decide(c)
  }

  function end(c) {
    c.ended = now()
    c.watch.disconnect()
  }

  function say(c, outcome) {
    c.watch.takeRecords() // changes of our own
    if (c.outcome === outcome) return
    c.outcome = outcome
    const told = { placed: 1, there: 1, 'site-signature': 1, 'other-add-on': 1, 'returned-by-site': 1 }
    if (told[outcome]) report(c.situation, outcome)
  }

  function take(c, outcome) {
    if (c.placed && !Placing.remove(c.field, c.placed)) return say(c, 'changed-by-person')
    c.placed = null
    say(c, outcome)
  }

  /** Whether somebody else's signature stands in the field: something with the person's address that the person did not write. */
  function foreign(c) {
    if (c.forced || c.touched !== -Infinity || now() - c.begun > settling) return false
    const own = c.placed?.block
    for (const element of Placing.all(c.field, '[class*="signature" i],[id*="signature" i]')) {
      if (own && (own.contains(element) || element.contains(own))) continue
      if (Placing.quotation(c.field, c.def, own ? [own] : [])?.contains(element) || element.closest('blockquote'))
        continue
      if (Placing.squash(element.textContent) !== '') return true
    }
    let text = Placing.ownText(c.field, c.def).toLowerCase()
    if (own) text = text.replace(own.textContent.toLowerCase(), '')
    else if (c.placed) text = text.replace(c.placed.text.toLowerCase(), '')
    return text.includes(current.person)
  }

  /** The site's own signature in the field; null for none, or a blank one. */
  function siteSignature(c) {
    const element = Placing.one(c.field, c.def.signature)
    if (!element || c.placed?.block?.contains(element)) return null
    return Placing.squash(element.textContent) !== '' || Placing.one(element, 'img') ? element : null
  }

  /** Decides what should stand in a field, and does it. */
  function decide(c) {
    if (c.ended) return
    clearTimeout(c.timer)
    c.timer = 0
    if (!current?.person || site.off || off[site.id]) return take(c, 'off')
    const accounts = Placing.accounts(c)
    if (!accounts.includes(current.person)) return take(c, accounts.length ? 'account' : 'account-unknown')
    if (c.touched === -Infinity) kindMayChange(c)
    if (c.placed && (c.placed.block ? c.placed.block.isConnected : c.field.value.includes(c.placed.text))) {
      const own = siteSignature(c)
      if (own) return take(c, Placing.trait(own) === c.placed.trait ? 'there' : 'site-signature')
      if (foreign(c)) return take(c, 'other-add-on')
      return single(c)
    }
    if (c.dismissed) return say(c, 'removed-by-person')
    if (c.outcome === 'other-add-on') return
    if (c.outcome === 'changed-by-person' && Placing.ours(c.field, c.def, [], c.id).length > 0) return
    const wanted = signaturesHere().find((s) => s.situation === c.situation)
    if (!wanted) return say(c, 'none')
    const own = siteSignature(c)
    if (own) return say(c, Placing.trait(own) === Placing.traitOf(wanted) ? 'there' : 'site-signature')
    if (recognised(c, wanted)) return
    if (Placing.present(c.field, c.def, known())) {
      c.placed = null
      return say(c, 'there')
    }
    if (c.placed) return gone(c, wanted)
    if (c.follows && Placing.squash(Placing.ownText(c.field, c.def)) !== '') return say(c, 'changed-form')
    if (!c.forced && c.draft) return say(c, 'draft')
    if (!c.forced && foreign(c)) return say(c, 'other-add-on')
    put(c, wanted)
  }

  /** While nobody has written yet, the page may still be filling the field: a reply may have begun as a blank one. */
  function kindMayChange(c) {
    const situation = situationOf(c)
    if (situation === c.situation) return
    c.situation = situation
    const wanted = signaturesHere().find((s) => s.situation === situation)
    const same = wanted && c.placed?.block && Placing.traitOf(wanted) === c.placed.trait
    if (c.placed && !same && Placing.remove(c.field, c.placed)) c.placed = null
  }

  function put(c, wanted) {
    c.placed = Placing.place(c.field, c.def, wanted, site.place, c.id)
    say(c, 'placed')
  }

  /** What was placed is not there any more: the person took it out, or the page wrote the field anew. */
  function gone(c, wanted) {
    c.placed = null
    if (now() - c.touched < hand) {
      c.dismissed = true
      return say(c, 'removed-by-person')
    }
    c.returned++
    if (c.returned > mostReturned) return say(c, 'returned-by-site')
    put(c, wanted)
  }

  /** Takes a signature of ours that stands there already for the placed one, brought up to date; false for none. */
  function recognised(c, wanted) {
    const traits = known().map(Placing.traitOf)
    const [block] = Placing.ours(c.field, c.def, traits, c.id)
    if (!block) return false
    c.placed = { block, trait: Placing.trait(block), situation: wanted.situation }
    const exact = traits.includes(c.placed.trait)
    if (c.placed.trait !== Placing.traitOf(wanted) && exact && now() - c.touched > hand) {
      // of a release before, or of another situation: as a draft keeps its kind, only what is older is replaced
      const same = signaturesHere().some((s) => Placing.traitOf(s) === c.placed.trait)
      if (!same) c.placed = Placing.replace(c.field, c.placed, wanted, c.id) ?? c.placed
    }
    if (!exact) {
      say(c, 'changed-by-person')
      return true
    }
    c.placed.block.setAttribute(Placing.MARK, `${wanted.situation} ${c.id}`)
    say(c, 'placed')
    return single(c)
  }

  /** Never twice: further signatures of ours that are exactly the same, such as of a page that put a draft together, go. */
  function single(c) {
    if (c.placed?.block) {
      for (const block of Placing.ours(c.field, c.def, [c.placed.trait], c.id)) {
        if (block !== c.placed.block && !block.contains(c.placed.block) && Placing.trait(block) === c.placed.trait)
          block.remove()
      }
      c.watch.takeRecords()
    }
    return true
  }

  /** Decides a little later, once for many changes. */
  function soon(c) {
    if (!c.timer) c.timer = setTimeout(() => ((c.timer = 0), decide(c)), 80)
  }

  // --- the page

  function look() {
    if (!site || !current) return
    const found = Placing.fields(document, site.compose)
    for (const c of compositions) if (!c.ended && !found.some((f) => f.field === c.field)) end(c)
    for (const f of found) if (!compositions.some((c) => !c.ended && c.field === f.field)) begin(f)
    if (compositions.length > 40) compositions = compositions.filter((c) => !c.ended || now() - c.ended < 3000)
  }

  const again = () => compositions.forEach((c) => !c.ended && soon(c))

  /** Notes that somebody writes in a large field that is not recognised. */
  function watchUnknown(event) {
    const field = event.composedPath()[0]
    if (!(field instanceof HTMLElement) || !site || !current) return
    const large =
      field.getBoundingClientRect().height >= 120 && (field.isContentEditable || field.localName === 'textarea')
    if (!large || compositions.some((c) => c.field === field || c.field.contains(field) || field.contains(c.field)))
      return
    unknownField = true
    if (!compositions.some((c) => !c.ended)) report('new', 'field-unknown')
  }

  function watch() {
    // the page's own tree, and frames that are filled later, of which no tree tells
    new MutationObserver(() => (look(), again())).observe(document, {
      childList: true,
      subtree: true,
      attributes: true,
      attributeFilter: ['style', 'class', 'hidden', 'contenteditable'],
    })
    document.addEventListener('load', look, true)
    for (const kind of ['change', 'input', 'click', 'keyup'])
      document.addEventListener(kind, again, { capture: true, passive: true })
    document.addEventListener('focusin', watchUnknown, { capture: true, passive: true })
    setInterval(look, 200)
  }

  const reported = new Set()
  function report(situation, outcome) {
    const one = `${situation} ${outcome} ${current.release}`
    if (reported.has(one)) return
    reported.add(one)
    send({ report: { site: site.id, situation, outcome, release: current.release } })
  }

  /** Tells the add-on; after it was updated or removed this page is on its own. */
  function send(message) {
    try {
      chrome.runtime.sendMessage(message).catch(() => undefined)
    } catch {
      // the add-on is gone from under this page
    }
  }

  async function read() {
    const stored = await chrome.storage.local.get(['current', 'off'])
    current = stored.current ?? null
    off = stored.off ?? {}
    site = current ? siteOf(current.sites, new URL(location.href)) : null
    opened ||= current?.release ?? ''
  }

  chrome.storage.onChanged.addListener((changes, area) => {
    if (area === 'local' && (changes.current || changes.off)) {
      void read().then(() => {
        look()
        again()
      })
    }
  })

  /** What the page Why is it not there? asks. */
  function state() {
    return {
      site: site && { id: site.id, title: site.title, off: Boolean(site.off), described: site.compose.length > 0 },
      person: current?.person ?? '',
      offHere: Boolean(site && off[site.id]),
      pageOpened,
      openedRelease: opened,
      release: current?.release ?? '',
      unknownField,
      compositions: compositions
        .filter((c) => !c.ended)
        .map((c) => ({ situation: c.situation, outcome: c.outcome, accounts: Placing.accounts(c) })),
    }
  }

  /** Puts the signature in, or takes it out, because the person says so. */
  function force(wanted) {
    for (const c of compositions.filter((o) => !o.ended)) {
      c.touched = -Infinity
      c.dismissed = !wanted
      if (!wanted) {
        take(c, 'removed-by-person')
        continue
      }
      Object.assign(c, { forced: true, outcome: '', returned: 0 })
      decide(c)
    }
  }

  chrome.runtime.onMessage.addListener((message, sender, answer) => {
    if (sender.id !== chrome.runtime.id || window.top !== window) return undefined
    if (message.look) {
      look()
      answer(state())
    } else if (message.put !== undefined) {
      force(message.put)
      answer(state())
    } else if (message.record) {
      Recorder.start(document, message.texts, (compose) => {
        if (!site) return
        site = { ...site, compose: [...compose, ...site.compose] }
        compositions.forEach((c) => !c.ended && end(c))
        look()
      })
      answer({})
    } else if (message.reload) location.reload()
    return undefined
  })

  void read().then(() => {
    watch()
    look()
    if (current) send({ renew: true })
  })
})()
