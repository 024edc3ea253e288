// Drives a service by SCIM and holds what it answers against an independent implementation of RFC 7643 and RFC 7644: schemas,
// resources, filters and changes of parts. Prints one line for each difference, and the number of comparisons at the end.
// node compare.mjs ADDRESS KEY
import { createRequire } from 'node:module'

const require = createRequire(new URL('../../console/package.json', import.meta.url))
const SCIMMY = require('scimmy').default ?? require('scimmy')
const [address, key] = process.argv.slice(2)
const core = 'urn:ietf:params:scim:schemas:core:2.0:User'
const enterprise = 'urn:ietf:params:scim:schemas:extension:enterprise:2.0:User'
const patchOp = 'urn:ietf:params:scim:api:messages:2.0:PatchOp'

SCIMMY.Schemas.User.definition.extend(SCIMMY.Schemas.EnterpriseUser.definition, false)

let compared = 0
const differs = (what, ours, theirs) => {
  compared++
  const [a, b] = [JSON.stringify(sorted(ours)), JSON.stringify(sorted(theirs))]
  if (a !== b) console.log(`${what}: the service ${a}, the other ${b}`)
}

/** A value whose members stand in one order, without what only one side has. */
function sorted(value) {
  if (Array.isArray(value)) return value.map(sorted)
  if (value === null || typeof value !== 'object') return value
  return Object.fromEntries(
    Object.keys(value)
      .filter((name) => !['meta', 'schemas', '$ref'].includes(name) && value[name] !== undefined)
      .sort()
      .map((name) => [name, sorted(value[name])]),
  )
}

async function call(method, path, body) {
  const answer = await fetch(`${address}/scim/v2${path}`, {
    method,
    headers: { Authorization: `Bearer ${key}`, 'Content-Type': 'application/scim+json' },
    body: body && JSON.stringify(body),
  })
  const text = await answer.text()
  const value = text ? JSON.parse(text) : undefined
  if (!answer.ok) throw new Error(`${method} ${path}: ${answer.status} ${text}`)
  return value
}

// What is published of an attribute is what the standard says of it.
for (const schema of (await call('GET', '/Schemas')).Resources) {
  const theirs = [SCIMMY.Schemas.User, SCIMMY.Schemas.Group, SCIMMY.Schemas.EnterpriseUser].find((s) => s.definition.id === schema.id)
  differs(`the schema ${schema.id} is known`, Boolean(theirs), true)
  for (const a of schema.attributes) {
    const known = theirs.definition.attribute(a.name)
    differs(`${schema.id}:${a.name}`, { type: a.type, many: a.multiValued }, { type: known.type, many: known.config.multiValued })
  }
}

const people = [
  {
    userName: 'ada',
    externalId: '1',
    name: { givenName: 'Ada', familyName: 'Tide', formatted: 'Ada Tide' },
    displayName: 'Ada',
    title: 'Captain',
    active: true,
    emails: [
      { value: 'ada@scim.example', type: 'work', primary: true },
      { value: 'ada@home.example', type: 'home' },
    ],
    phoneNumbers: [{ value: '+44 1632 960001', type: 'work' }],
    addresses: [{ streetAddress: 'Quay 1', locality: 'Havsund', country: 'NO', type: 'work' }],
    [enterprise]: { employeeNumber: '7', department: 'Bridge' },
  },
  { userName: 'bo', name: { familyName: 'Bo' }, active: false, emails: [{ value: 'bo@scim.example', type: 'work' }] },
  { userName: 'cy', displayName: 'Cy', title: 'Cook', preferredLanguage: 'de' },
]
const users = []
for (const person of people) {
  const sent = new SCIMMY.Schemas.User({ schemas: [core, enterprise], ...person }, 'in')
  const answer = await call('POST', '/Users', JSON.parse(JSON.stringify({ ...sent, schemas: [core, enterprise] })))
  users.push(answer)
  // read by the other implementation, nothing is missing and nothing is new
  const read = JSON.parse(JSON.stringify(new SCIMMY.Schemas.User(answer, 'out')))
  differs(`${person.userName} as it is read`, read, { active: true, ...person, id: answer.id })
}

/** Whether the other implementation lets a person through; it fails where a value in brackets is missing altogether. */
function passes(filter, user) {
  try {
    return new SCIMMY.Types.Filter(filter).match([user]).length === 1
  } catch (error) {
    if (error instanceof TypeError) return false
    throw error
  }
}

// Filters let the same people through. Letter case is that of the values: the other implementation compares it always.
for (const filter of [
  'userName eq "ada"', 'userName ne "ada"', 'userName sw "a"', 'userName ew "o"', 'name.familyName co "id"', 'title pr',
  'not (title pr)', 'title eq "Cook" or active eq false', 'title pr and active eq true', 'emails[type eq "work"]',
  'emails[type eq "home" and value co "home"]', 'emails.type eq "home"', 'title pr or displayName eq "Cy"',
  'displayName gt "B"', 'displayName le "Ada"', 'preferredLanguage eq "de" and not (emails pr)',
  'addresses[locality eq "Havsund" and country eq "NO"]', 'externalId eq "1"',
]) {
  const list = await call('GET', `/Users?count=100&filter=${encodeURIComponent(filter)}`)
  const ours = list.Resources.map((u) => u.userName).sort()
  const theirs = users.filter((u) => passes(filter, u)).map((u) => u.userName).sort()
  differs(filter, ours, theirs)
}

// Changes of parts come out the same, one after the other. That of a whole name is left out: here the parts that are not named
// stay (RFC 7644, 3.5.2.3), there they are removed.
let theirs = new SCIMMY.Schemas.User(users[0], 'out')
for (const operations of [
  [{ op: 'add', path: 'name.middleName', value: 'M' }],
  [{ op: 'replace', path: 'title', value: 'Pilot' }],
  [{ op: 'add', path: 'emails', value: [{ value: 'third@scim.example', type: 'other' }] }],
  [{ op: 'replace', path: 'emails[type eq "home"].value', value: 'new@home.example' }],
  [{ op: 'remove', path: 'emails[type eq "other"]' }],
  [{ op: 'remove', path: 'name.middleName' }],
  [{ op: 'add', value: { displayName: 'Ada T.', preferredLanguage: 'en' } }],
  [{ op: 'replace', value: { title: 'Captain' } }, { op: 'remove', path: 'preferredLanguage' }],
  [{ op: 'replace', path: 'name.familyName', value: 'Lind' }],
  [{ op: 'replace', path: 'phoneNumbers', value: [{ value: '+44 7700 900001', type: 'mobile' }] }],
  [{ op: 'add', path: `${enterprise}:division`, value: 'North' }],
  [{ op: 'replace', path: `${enterprise}:department`, value: 'Deck' }],
  [{ op: 'remove', path: 'addresses' }],
  [{ op: 'replace', path: 'active', value: false }],
  [{ op: 'replace', path: 'active', value: true }],
]) {
  const message = { schemas: [patchOp], Operations: operations }
  const ours = await call('PATCH', `/Users/${users[0].id}`, message)
  theirs = (await new SCIMMY.Messages.PatchOp(message).apply(theirs)) ?? theirs
  differs(JSON.stringify(operations), ours, JSON.parse(JSON.stringify(theirs)))
}
for (const user of users) await call('DELETE', `/Users/${user.id}`)
console.log(`${compared} comparisons`)
