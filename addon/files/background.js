/*
 * Keeps what the service says of this person, renews it, and tells the service how it went. The key of the person is kept where no page
 * can read it. Start with renew.
 */
import { readKey, writeKey } from './key.js'
import { service } from './organisation.js'

/** How often the service is asked at most (minutes). */
const every = 30
/** How often a page that is opened may make it ask (minutes). */
const atPage = 5
/** How many signatures of before are kept, to recognise them in drafts. */
const mostBefore = 12

const local = chrome.storage.local

/** The key by the organisation's policy, or the one that was pasted. */
async function key() {
  try {
    const managed = await chrome.storage.managed.get('key')
    if (managed.key) return managed.key
  } catch {
    // no policy is set on this machine
  }
  return readKey()
}

/** Asks the service; the answer, or why there is none. */
async function ask(path, options = {}) {
  const own = await key()
  if (!own) return { problem: 'no-key' }
  try {
    const answer = await fetch(service + path, {
      ...options,
      headers: { Authorization: `Bearer ${own}`, ...options.headers },
      credentials: 'omit',
      cache: 'no-store',
      redirect: 'error',
      referrerPolicy: 'no-referrer',
    })
    if (answer.status === 401 || answer.status === 403) return { problem: 'key-ended' }
    if (answer.status === 404 || answer.status === 410) return { problem: 'no-signature' }
    if (answer.status === 304) return { same: true }
    if (!answer.ok) return { problem: 'away' }
    return { value: answer.status === 204 ? {} : await answer.json(), etag: answer.headers.get('ETag') ?? '' }
  } catch {
    return { problem: 'away' }
  }
}

let renewing = null

/** Fetches the current signature. While the service is away the last good one stays. */
function renew() {
  renewing ??= renewNow().finally(() => (renewing = null))
  return renewing
}

async function renewNow() {
  const { current, etag } = await local.get(['current', 'etag'])
  const got = await ask('/api/v1/add-on/current', { headers: current && etag ? { 'If-None-Match': etag } : {} })
  const at = Date.now()
  if (got.same) return local.set({ asked: at, heard: at, problem: '' })
  if (got.value) {
    const fresh = got.value
    const texts = new Set(fresh.signatures.map((s) => s.html))
    const before = [...(current?.signatures ?? []), ...(current?.before ?? [])].filter((s) => !texts.has(s.html))
    return local.set({
      current: { ...fresh, before: before.slice(0, mostBefore) },
      etag: got.etag,
      asked: at,
      heard: at,
      problem: '',
    })
  }
  if (got.problem !== 'away') await local.remove(['current', 'etag']) // it is not this person's any more
  return local.set({ asked: at, problem: got.problem })
}

// --- what the add-on says of itself

const day = 24 * 60 * 60 * 1000

/** Sends how it went, once a day for each outcome, as soon as the service can be reached. */
async function report(one) {
  const { told = {}, waiting = [] } = await local.get(['told', 'waiting'])
  const name = `${one.site} ${one.situation} ${one.outcome} ${one.release}`
  const now = Date.now()
  if (told[name] && now - told[name] < day) return
  for (const old of Object.keys(told)) if (now - told[old] > day) delete told[old]
  told[name] = now
  await local.set({ told, waiting: [...waiting, one].slice(-50) })
  await tell()
}

async function tell() {
  const { waiting = [] } = await local.get('waiting')
  if (waiting.length === 0) return
  const got = await ask('/api/v1/add-on/state', {
    method: 'POST',
    headers: { 'Content-Type': 'application/json' },
    body: JSON.stringify({ version: chrome.runtime.getManifest().version, reports: waiting }),
  })
  if (got.problem === 'away') return
  const { waiting: now = [] } = await local.get('waiting')
  await local.set({ waiting: now.filter((w) => !waiting.some((s) => JSON.stringify(s) === JSON.stringify(w))) })
}

// --- when

let line = Promise.resolve() // reports one after the other, that none is lost

chrome.runtime.onMessage.addListener((message, sender, answer) => {
  if (sender.id !== chrome.runtime.id) return undefined
  if (message.report) {
    line = line.then(() => report(message.report)).catch(() => undefined)
    return undefined
  }
  if (message.renew) {
    void local.get('asked').then(({ asked = 0 }) => Date.now() - asked > atPage * 60_000 && renew())
    return undefined
  }
  if (message.renewNow) {
    void renew()
      .then(tell)
      .then(() => answer({}))
    return true
  }
  if (message.key !== undefined) {
    void writeKey(message.key)
      .then(() => local.remove(['current', 'etag', 'told', 'waiting']))
      .then(renew)
      .then(() => answer({}))
    return true
  }
  return undefined
})

chrome.alarms.onAlarm.addListener(() => void renew().then(tell))
chrome.runtime.onInstalled.addListener(() => void renew())
chrome.runtime.onStartup.addListener(() => void renew())
chrome.storage.onChanged.addListener((_, area) => area === 'managed' && void renew())
void chrome.alarms.get('renew').then((alarm) => alarm ?? chrome.alarms.create('renew', { periodInMinutes: every }))
