/* What the add-on reads and sends. A test holds this page against what it does. */
import { service } from './organisation.js'
import { element, page, say } from './say.js'

/** All that is ever said of how it went. */
const outcomes = ['placed', 'there', 'site-signature', 'other-add-on', 'field-unknown', 'returned-by-site']

const sites = chrome.runtime.getManifest().content_scripts?.flatMap((c) => c.matches) ?? []
const list = (...lines) => element('ul', {}, ...lines.map((l) => element('li', {}, l)))

page('reads_title')
document
  .querySelector('main')
  .replaceChildren(
    element('h1', {}, say('reads_title')),
    element('p', {}, say('reads_only')),
    element('ul', { class: 'addresses' }, ...sites.map((s) => element('li', {}, element('code', { dir: 'ltr' }, s)))),
    element('p', {}, say('reads_reads')),
    list(say('reads_1'), say('reads_2'), say('reads_3')),
    element('p', {}, say('reads_sends', service)),
    list(say('reads_4'), say('reads_5', outcomes.join(', '))),
    element('p', {}, element('strong', {}, say('reads_never'))),
  )
