/* Why is it not there? Looks at the message that is being written, and says in order what can be in the way, and what helps. */
import { readKey } from './key.js'
import { element, page, say, when } from './say.js'

/**
 * What can be in the way, in the order in which it is looked at. Each has a name, whether it is fine (true), the reason (false) or
 * cannot be told (null), and the step that helps.
 */
function reasons(tab, stored, hasKey) {
  const { current, problem = '', heard = 0 } = stored
  const c = tab?.compositions.at(-1)
  const person = current?.person ?? ''
  const out = c?.outcome ?? ''
  const step = (name, ...with_) => say('s_' + name, ...with_)
  const told = (fine, name, ...with_) => ({ fine, step: fine === false ? step(name, ...with_) : '' })
  const list = []
  const add = (name, { fine, step: helps }) => list.push({ name, fine, step: helps })

  add('site-signature', told(c ? out !== 'site-signature' : null, 'site-signature'))
  add('other-add-on', told(c ? out !== 'other-add-on' : null, 'other-add-on'))
  if (out === 'account-unknown') add('account', told(false, 'account-unknown', '', person))
  else add('account', told(c ? out !== 'account' : null, 'account', c?.accounts[0] ?? '', person))
  add('opened', told(tab ? tab.openedRelease === tab.release || out === 'placed' : false, 'opened'))
  if (tab?.site && !tab.site.described) add('field', told(false, 'field-none'))
  else add('field', told(c ? true : tab?.unknownField ? false : null, 'field'))
  add('off', told(!tab?.site?.off && !tab?.offHere, tab?.site?.off ? 'off-all' : 'off'))
  const ended = !hasKey ? 'no-key' : problem === 'no-key' ? '' : problem === 'away' ? '' : problem
  add('key', told(ended === '', ended || 'no-key'))
  const away = problem === 'away'
  add('service', told(!away, current ? 'away' : 'away-never', away && heard ? when(heard) : ''))
  const inMessage = ['none', 'draft', 'removed-by-person', 'changed-by-person', 'changed-form', 'returned-by-site']
  if (inMessage.includes(out)) add('message', told(false, out))
  return list
}

function summary(tab, stored) {
  if (!stored.current) return say('sum_missing')
  if (!tab?.site && !tab?.opened)
    return say('sum_elsewhere', (stored.current?.sites ?? []).map((s) => s.title).join(', '))
  const out = tab.compositions?.at(-1)?.outcome
  if (out === 'placed') return say('sum_placed')
  if (out === 'there') return say('sum_there')
  return tab.compositions?.length || tab.unknownField || tab.opened ? say('sum_missing') : say('sum_none')
}

const signs = new Map([
  [true, ['✓', 'good']],
  [false, ['✕', 'bad']],
  [null, ['·', 'unknown']],
])

function drawReason({ name, fine, step }) {
  const [sign, word] = signs.get(fine)
  return element(
    'li',
    { class: word, 'data-reason': name },
    element('span', { class: 'sign', 'aria-hidden': 'true' }, sign),
    element(
      'div',
      {},
      element('span', { class: 'name' }, say('r_' + name)),
      ' ',
      element('span', { class: 'word' }, say(word)),
      ...(step ? [element('p', {}, step)] : []),
    ),
  )
}

/** The page that is looked at: the active tab, or the one that the address names. */
async function target() {
  const named = new URLSearchParams(location.search).get('tab')
  if (named) return chrome.tabs.get(Number(named)).catch(() => null)
  const [tab] = await chrome.tabs.query({ active: true, currentWindow: true })
  return tab ?? null
}

/** The addresses of the add-on's sites are the only ones that it is shown. */
const onSite = (tab) => Boolean(tab?.url && /^https?:/.test(tab.url))

async function ask(tab, message) {
  try {
    return await chrome.tabs.sendMessage(tab.id, message)
  } catch {
    return onSite(tab) ? { opened: true, compositions: [] } : null
  }
}

const texts = () =>
  Object.fromEntries(
    ['field', 'account', 'quotation', 'signature', 'done', 'wrong', 'skip', 'back', 'end', 'copy'].map((t) => [
      t,
      say('rec_' + t),
    ]),
  )

async function draw(message = { look: true }) {
  const tab = await target()
  const state = tab && (await ask(tab, message))
  const stored = await chrome.storage.local.get(['current', 'problem', 'heard', 'off'])
  const managed = await chrome.storage.managed.get('key').catch(() => ({}))
  const hasKey = Boolean(managed.key || (await readKey()))
  const out = state?.compositions?.at(-1)?.outcome
  const here = state?.site
  const button = (name, press, main) => element('button', main ? { class: 'main', press } : { press }, say('b_' + name))
  const actions = []
  if (state?.compositions?.length) {
    if (out === 'placed') actions.push(button('take', () => draw({ put: false })))
    else if (!['there', 'off', 'account'].includes(out)) actions.push(button('put', () => draw({ put: true }), true))
  }
  if (state?.opened || (here && state.openedRelease !== state.release)) {
    actions.push(button('reload', () => chrome.tabs.reload(tab.id).then(() => window.close())))
  }
  if (here) {
    const offNow = state.offHere
    actions.push(
      button(offNow ? 'on' : 'off', async () => {
        await chrome.storage.local.set({ off: { ...stored.off, [here.id]: !offNow } })
        setTimeout(() => void draw(), 200) // until the page has heard of it
      }),
    )
    actions.push(
      button('record', async () => {
        await ask(tab, { record: true, texts: texts() })
        window.close()
      }),
    )
  }
  actions.push(button('ask', () => chrome.runtime.sendMessage({ renewNow: true }).then(() => draw())))
  // on a page that is not one of the sites, what is in the way of a message says nothing
  const elsewhere = !here && !state?.opened
  const list = elsewhere && hasKey && !stored.problem ? [] : reasons(state?.opened ? null : state, stored, hasKey)
  document
    .querySelector('main')
    .replaceChildren(
      element('h1', {}, say('why_title')),
      element(
        'p',
        { role: 'status', class: out === 'placed' || out === 'there' ? 'sum good' : 'sum' },
        summary(state, stored),
      ),
      element(
        'ol',
        { class: 'reasons' },
        ...list.filter((r) => !elsewhere || ['key', 'service'].includes(r.name)).map(drawReason),
      ),
      element('div', { class: 'actions' }, ...actions),
      element(
        'nav',
        {},
        element('a', { href: 'settings.html', target: '_blank' }, say('b_settings')),
        element('a', { href: 'reads.html', target: '_blank' }, say('b_reads')),
      ),
    )
}

page('why_title')
void draw()
