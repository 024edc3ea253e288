/* The settings: the person's key, and whether it works. */
import { readKey } from './key.js'
import { element, page, say, when } from './say.js'

async function draw(note = '') {
  const managed = await chrome.storage.managed.get('key').catch(() => ({}))
  const { current, problem = '', heard = 0 } = await chrome.storage.local.get(['current', 'problem', 'heard'])
  const pasted = await readKey()
  const works = current && problem === ''
  const state = works
    ? say('set_ok', current.person)
    : problem === 'away'
      ? say(current ? 's_away' : 's_away-never', heard ? when(heard) : '')
      : say(problem && (pasted || managed.key) ? 's_' + problem : 's_no-key')
  const input = element('input', {
    id: 'key',
    type: 'password',
    autocomplete: 'off',
    spellcheck: 'false',
    required: '',
  })
  const form = element(
    'form',
    {},
    element('label', { for: 'key' }, say('set_key')),
    input,
    element('p', {}, say('set_how')),
    element('button', { class: 'main' }, say('set_keep')),
  )
  form.addEventListener('submit', (event) => {
    event.preventDefault()
    void chrome.runtime.sendMessage({ key: input.value.trim() }).then(() => draw())
  })
  document
    .querySelector('main')
    .replaceChildren(
      element('h1', {}, say('set_title')),
      element('p', { role: 'status', class: works ? 'sum good' : 'sum' }, note || state),
      ...(heard ? [element('p', {}, say('set_since', when(heard)))] : []),
      managed.key ? element('p', {}, say('set_managed')) : form,
      element('p', { class: 'faint' }, say('set_version', chrome.runtime.getManifest().version)),
      element('nav', {}, element('a', { href: 'reads.html' }, say('b_reads'))),
    )
}

page('set_title')
void draw()
