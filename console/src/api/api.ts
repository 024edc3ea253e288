// Calls to the service. Paths, bodies and answers are typed by its OpenAPI document (npm run types).
import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

type Schemas = components['schemas']
export type TemplateSummary = Schemas['TemplateSummary']
export type TemplateDetail = Schemas['TemplateDetail']
export type Report = Schemas['Report']
export type Finding = Schemas['Finding']
export type Budget = Schemas['Budget']
export type Look = Schemas['Look']
export type Client = Schemas['Client']
export type ClientDocument = Schemas['ClientDocument']
export type Fixed = Schemas['Fixed']
export type Shrunk = Schemas['Shrunk']
export type ShrinkStep = Schemas['ShrinkStep']
export type Space = Schemas['Space']
export type Pasted = Schemas['Pasted']
export type SurvivalMap = Schemas['Map']
export type MapCell = Schemas['MapCell']
export type MapRow = Schemas['MapRow']
export type Dialect = Schemas['Dialect']
export type Exported = Schemas['Exported']
export type PersonDetail = Schemas['PersonDetail']
export type PeoplePage = Schemas['PeoplePage']
export type VersionInfo = Schemas['VersionInfo']
export type HardCase = Schemas['HardCase']
export type ImportPlan = Schemas['ImportPlan']
export type Run = Schemas['Run']
export type RunChange = Schemas['RunChange']
type RunChanges = Schemas['RunChanges']
export type ChangeKind = RunChange['kind']
export type Condition = Schemas['Condition']
export type AudienceCount = Schemas['AudienceCount']
export type Assignment = Schemas['Assignment']
export type AssignmentList = Schemas['AssignmentList']
export type Faults = Schemas['Faults']
export type Source = Schemas['Source']
export type SourceRequest = Schemas['SourceRequest']
export type SourceSettings = Schemas['SourceSettings']
export type SourcePreview = Schemas['SourcePreview']
export type PeopleFilter = { blank?: string; left?: boolean; source?: string }
export type PackageRequest = Schemas['PackageRequest']
export type PackageInfo = Schemas['PackageInfo']
export type FieldReference = Schemas['FieldReference']
export type Mistake = Schemas['Mistake']
export type Starter = Schemas['Starter']
export type Form = Schemas['Form']
export type CleanResult = Schemas['CleanResult']
export type NewPreview = Schemas['NewPreview']
export type NewRequest = Schemas['NewRequest']
export type PictureSummary = Schemas['PictureSummary']
export type PictureRecord = Schemas['PictureRecord']
export type PictureVersion = Schemas['PictureVersion']
export type PictureFacts = Schemas['PictureFacts']
export type PictureRecipe = Schemas['PictureRecipe']
export type PictureSettings = Schemas['PictureSettings']
export type MadePicture = Schemas['MadePicture']
export type ProbeAnswer = Schemas['ProbeAnswer']
export type Sight = Schemas['Sight']
export type SliceMap = Schemas['SliceMap']
export type SlicedPicture = Schemas['SlicedPicture']
export type Consequence = Schemas['Consequence']
export type CheckedAddress = Schemas['CheckedAddress']
export type PhotoState = Schemas['PhotoState']

export type Release = Schemas['Release']
export type Wave = Schemas['Wave']
export type SendWave = Schemas['SendWave']
export type DeskMatrix = Schemas['DeskMatrix']
export type DeskRow = Schemas['DeskRow']
export type Standing = Schemas['Standing']
export type MailRules = Schemas['MailRules']
export type MailRule = Schemas['MailRule']
export type MailRuleFile = Schemas['MailRuleFile']
export type MailRuleCondition = Schemas['MailRuleCondition']
export type MailRuleThen = Schemas['MailRuleThen']
export type MailRulesVersion = Schemas['MailRulesVersion']
export type Tried = Schemas['Tried']
export type Trace = Schemas['Trace']
export type Rehearsal = Schemas['Rehearsal']
export type Job = Schemas['Job']
export type MessageRecord = Schemas['MessageRecord']
export type MessageFilter = {
  find?: string
  outcome?: 'stamped' | 'enclosed' | 'unchanged' | 'refused' | 'held' | 'failed' | 'unsure'
  since?: string
}
export type PersonalOverview = Schemas['PersonalOverview']
export type PreparedSignature = Schemas['PreparedSignature']
export type SignatureAnswer = Schemas['SignatureAnswer']
export type SignatureCheck = Schemas['SignatureCheck']
export type PersonalDetails = Schemas['PersonalDetails']
export type PersonalDetail = Schemas['PersonalDetail']
export type PersonalSettings = Schemas['PersonalSettings']
export type AddOnSettings = Schemas['AddOnSettings']
export type AddOnSite = Schemas['AddOnSite']
export type PersonalLink = Schemas['PersonalLink']
export type DetailRequest = Schemas['DetailRequest']
export type Invite = Schemas['Invite']
export type Session = Schemas['Session']
export type Account = Schemas['Account']
export type AccountLink = Schemas['AccountLink']
export type Role = Schemas['Role']
export type Scope = Schemas['Scope']
export type Key = Schemas['Key']
export type Entry = Schemas['Entry']
export type OrganisationSettings = Schemas['OrganisationSettings']
export type RecordFilter = {
  who?: string
  action?: string
  object?: string
  name?: string
  since?: string
  until?: string
}
/** What the console asks about before it offers something. The service decides again. */
export type Permission =
  | 'templates'
  | 'pictures'
  | 'clients'
  | 'packages'
  | 'releases'
  | 'approve'
  | 'send'
  | 'people'
  | 'mail-rules'
  | 'desks'
  | 'settings'
  | 'accounts'
  | 'keys'
  | 'record'
type KeyRequest = { name: string; scopes: Scope[]; source: string; ends: string }
export type DeskFilter = { search?: string; standing?: string; client?: string; audience?: string; wave?: number }

/** A refusal by the service, in its own words (RFC 9457). */
export class Refusal extends Error {
  status: number
  mistakes: Mistake[]
  field: string

  constructor(status: number, detail: string, mistakes: Mistake[], field = '') {
    super(detail)
    this.status = status
    this.mistakes = mistakes
    this.field = field
  }
}

const service = createClient<paths>()

interface Answer<T> {
  data?: T
  error?: unknown
  response: Response
}

/** What was answered; a Refusal where the service refused or does not answer. */
async function answered<T>(call: Promise<Answer<T>>): Promise<{ data: T; response: Response }> {
  let answer: Answer<T>
  try {
    answer = await call
  } catch (error) {
    if (error instanceof DOMException && error.name === 'AbortError') throw error
    if (error instanceof SyntaxError) throw new Refusal(502, 'What answered is not the service.', [])
    throw new Refusal(0, 'The service does not answer. Is it still running?', [])
  }
  const { response } = answer
  if (response.status === 401 && !['/sign-in', '/your-signature'].includes(location.pathname))
    location.assign(`/sign-in?to=${encodeURIComponent(location.pathname + location.search)}`)
  if (!response.ok) throw refusal(response, answer.error)
  return { data: answer.data as T, response }
}

function refusal(response: Response, problem: unknown): Refusal {
  const { detail, errors, field } =
    typeof problem === 'object' && problem !== null
      ? (problem as Schemas['Problem'])
      : { detail: undefined, errors: undefined, field: undefined }
  return new Refusal(
    response.status,
    detail ?? `The service answered ${response.status} ${response.statusText}.`,
    errors ?? [],
    field,
  )
}

async function of<T>(call: Promise<Answer<T>>): Promise<T> {
  return (await answered(call)).data
}

/** A file that the service makes, with the name that it gives it. */
async function fileOf(call: Promise<Answer<unknown>>): Promise<{ name: string; data: Blob }> {
  const { data, response } = await answered(call)
  return {
    name: /filename="([^"]+)"/.exec(response.headers.get('Content-Disposition') ?? '')?.[1] ?? 'signature',
    data: data as Blob,
  }
}

const ofTemplate = (name: string) => ({ path: { name } })
const ofPicture = ofTemplate
const asIs = (body: unknown) => body as BodyInit // a file goes out as it is

const ofRelease = (id: number) => ({ path: { id } })

/** Who acts, while there are no accounts: whoever made a release does not approve it. */
const acting = (as: string) => (as ? { 'Missivum-Acting-As': encodeURIComponent(as) } : {})

export const api = {
  openPersonal: (token: string) => of(service.POST('/api/v1/personal/open', { body: { token } })),
  personal: () => of(service.GET('/api/v1/personal')),
  putPersonalChoice: (client: string, language: string) =>
    of(service.PUT('/api/v1/personal/choice', { body: { client, language } })),
  prepareSignature: (body: { client: string; situation: string; draft?: Record<string, string> }) =>
    of(service.POST('/api/v1/personal/signature', { body })),
  checkSignature: (body: SignatureCheck) => of(service.POST('/api/v1/personal/check', { body })),
  personalFiles: (client: string, signed: boolean) =>
    fileOf(service.GET('/api/v1/personal/files', { params: { query: { client, signed } }, parseAs: 'blob' })),
  personalPicture: (situation: string) =>
    of(service.GET('/api/v1/personal/picture', { params: { query: { situation } } })),
  details: () => of(service.GET('/api/v1/personal/details')),
  putDetails: (values: Record<string, string>) => of(service.PUT('/api/v1/personal/details', { body: { values } })),
  reportDetail: (field: string, note: string) =>
    of(service.POST('/api/v1/personal/details/wrong', { body: { field, note } })),
  personalLinks: (search: string) => of(service.GET('/api/v1/personal/links', { params: { query: { search } } })),
  addPersonalLink: (person: string) => of(service.POST('/api/v1/personal/links', { body: { person } })),
  revokePersonalLink: (id: number) => of(service.DELETE('/api/v1/personal/links/{id}', { params: { path: { id } } })),
  whoIsInvited: (body: Invite) => of(service.POST('/api/v1/personal/invitations/who', { body })),
  sendInvitations: (body: Invite) => of(service.POST('/api/v1/personal/invitations', { body })),
  draftInvitations: (body: Invite) =>
    fileOf(service.POST('/api/v1/personal/invitations/drafts', { body, parseAs: 'blob' })),
  detailRequests: (state: 'open' | 'accepted' | 'refused') =>
    of(service.GET('/api/v1/personal/requests', { params: { query: { state } } })),
  acceptDetailRequest: (id: number) =>
    of(service.POST('/api/v1/personal/requests/{id}/accept', { params: { path: { id } } })),
  refuseDetailRequest: (id: number) =>
    of(service.POST('/api/v1/personal/requests/{id}/refuse', { params: { path: { id } } })),
  ownAddOn: () => of(service.GET('/api/v1/personal/add-on')),
  addOwnAddOnKey: () => of(service.POST('/api/v1/personal/add-on')),
  addOn: () => of(service.GET('/api/v1/add-on')),
  putAddOnSettings: (body: AddOnSettings) => of(service.PUT('/api/v1/add-on/settings', { body })),
  addOnKeys: (search: string) => of(service.GET('/api/v1/add-on/keys', { params: { query: { search } } })),
  addAddOnKeys: (people: string[]) => of(service.POST('/api/v1/add-on/keys', { body: { people } })),
  revokeAddOnKey: (id: number) => of(service.DELETE('/api/v1/add-on/keys/{id}', { params: { path: { id } } })),
  personalSettings: () => of(service.GET('/api/v1/personal/settings')),
  putPersonalSettings: (body: PersonalSettings) => of(service.PUT('/api/v1/personal/settings', { body })),
  signInWays: () => of(service.GET('/api/v1/sign-in')),
  signIn: (body: { name: string; password: string; code: string }) => of(service.POST('/api/v1/sign-in', { body })),
  firstStart: (body: { secret: string; name: string; title: string; password: string }) =>
    of(service.POST('/api/v1/first-start', { body })),
  openLink: (secret: string) => of(service.POST('/api/v1/link', { body: { secret } })),
  choosePassword: (secret: string, password: string) =>
    of(service.POST('/api/v1/link/password', { body: { secret, password } })),
  session: () => of(service.GET('/api/v1/session')),
  signOut: (everywhere: boolean) => of(service.DELETE('/api/v1/session', { params: { query: { everywhere } } })),
  putOwnPassword: (current: string, password: string) =>
    of(service.PUT('/api/v1/account/password', { body: { current, password } })),
  beginFactor: (current: string) => of(service.POST('/api/v1/account/factor', { body: { current } })),
  confirmFactor: (code: string) => of(service.PUT('/api/v1/account/factor', { body: { code } })),
  removeFactor: (current: string) => of(service.DELETE('/api/v1/account/factor', { body: { current } })),
  ownKeys: () => of(service.GET('/api/v1/account/keys')),
  addOwnKey: (body: KeyRequest) => of(service.POST('/api/v1/account/keys', { body })),
  removeOwnKey: (name: string) => of(service.DELETE('/api/v1/account/keys/{name}', { params: { path: { name } } })),
  accounts: () => of(service.GET('/api/v1/accounts')),
  addAccount: (body: { name: string; title: string; roles: Role[] }) => of(service.POST('/api/v1/accounts', { body })),
  changeAccount: (name: string, body: { title?: string; roles?: Role[]; factor?: false }) =>
    of(service.PATCH('/api/v1/accounts/{name}', { params: { path: { name } }, body })),
  removeAccount: (name: string) => of(service.DELETE('/api/v1/accounts/{name}', { params: { path: { name } } })),
  linkAccount: (name: string) => of(service.POST('/api/v1/accounts/{name}/link', { params: { path: { name } } })),
  signOutAccount: (name: string) =>
    of(service.POST('/api/v1/accounts/{name}/sign-out', { params: { path: { name } } })),
  keys: () => of(service.GET('/api/v1/keys')),
  addKey: (body: KeyRequest) => of(service.POST('/api/v1/keys', { body })),
  removeKey: (name: string) => of(service.DELETE('/api/v1/keys/{name}', { params: { path: { name } } })),
  organisation: () => of(service.GET('/api/v1/organisation')),
  putOrganisation: (body: OrganisationSettings) => of(service.PUT('/api/v1/organisation', { body })),
  record: (filter: RecordFilter, before: number) =>
    of(service.GET('/api/v1/record', { params: { query: { ...filter, before } } })),
  recordWords: () => of(service.GET('/api/v1/record/words')),
  checkRecord: () => of(service.GET('/api/v1/record/check')),
  recordSettings: () => of(service.GET('/api/v1/record/settings')),
  putRecordSettings: (days: number) => of(service.PUT('/api/v1/record/settings', { body: { days } })),
  releases: () => of(service.GET('/api/v1/releases')),
  release: (id: number) => of(service.GET('/api/v1/releases/{id}', { params: ofRelease(id) })),
  makeRelease: (body: Schemas['ReleaseDraft'], as: string) =>
    of(service.POST('/api/v1/releases', { body, headers: acting(as) })),
  removeRelease: (id: number, as: string) =>
    of(service.DELETE('/api/v1/releases/{id}', { params: ofRelease(id), headers: acting(as) })),
  approveRelease: (id: number, says: string, as: string) =>
    of(service.POST('/api/v1/releases/{id}/approve', { params: ofRelease(id), body: { says }, headers: acting(as) })),
  sendRelease: (id: number, waves: SendWave[], as: string) =>
    of(service.POST('/api/v1/releases/{id}/send', { params: ofRelease(id), body: { waves }, headers: acting(as) })),
  pauseRelease: (id: number, as: string) =>
    of(service.POST('/api/v1/releases/{id}/pause', { params: ofRelease(id), headers: acting(as) })),
  resumeRelease: (id: number, as: string) =>
    of(service.POST('/api/v1/releases/{id}/resume', { params: ofRelease(id), headers: acting(as) })),
  widenRelease: (id: number, as: string) =>
    of(service.POST('/api/v1/releases/{id}/widen', { params: ofRelease(id), headers: acting(as) })),
  withdrawRelease: (id: number, as: string) =>
    of(service.POST('/api/v1/releases/{id}/withdraw', { params: ofRelease(id), headers: acting(as) })),
  releaseSettings: () => of(service.GET('/api/v1/releases/settings')),
  putReleaseSettings: (oneMayDoBoth: boolean) =>
    of(service.PUT('/api/v1/releases/settings', { body: { oneMayDoBoth } })),
  endings: () => of(service.GET('/api/v1/releases/endings')),
  waveSamples: (id: number, number: number) =>
    of(service.GET('/api/v1/releases/{id}/waves/{number}/samples', { params: { path: { id, number } } })),
  desks: (filter: DeskFilter, offset: number, limit: number) =>
    of(service.GET('/api/v1/desks', { params: { query: { ...filter, offset, limit } } })),
  mailRules: (version?: number) => of(service.GET('/api/v1/rules', { params: { query: { version } } })),
  mailRulesVersions: () => of(service.GET('/api/v1/rules/versions')),
  putMailRules: (document: string, note: string, base: number, as: string) =>
    of(service.PUT('/api/v1/rules', { body: { document, note, base }, headers: acting(as) })),
  checkMailRules: (document: string, file?: MailRuleFile, signal?: AbortSignal) =>
    of(service.POST('/api/v1/rules/check', { body: { document, file }, signal })),
  sampleMailRules: (document: string, sender: string, signal?: AbortSignal) =>
    of(service.POST('/api/v1/rules/samples', { body: { document, sender }, signal })),
  tryMailRules: (body: Schemas['TryRequest']) => of(service.POST('/api/v1/rules/try', { body })),
  rehearseMailRules: (file: File, trials: boolean) =>
    of(
      service.POST('/api/v1/rules/rehearse', {
        params: { query: { name: file.name, trials } },
        headers: { 'Content-Type': 'application/octet-stream' },
        body: '',
        bodySerializer: () => asIs(file),
      }),
    ),
  rehearsals: () => of(service.GET('/api/v1/jobs', { params: { query: { kind: 'rehearsal' } } })),
  mailRulesPause: () => of(service.GET('/api/v1/rules/pause')),
  putMailRulesPause: (paused: boolean, says: string, as: string) =>
    of(service.PUT('/api/v1/rules/pause', { body: { paused, says }, headers: acting(as) })),
  messages: (filter: MessageFilter, before?: number) =>
    of(service.GET('/api/v1/messages', { params: { query: { ...filter, before, limit: 50 } } })),
  messageCounts: (filter: MessageFilter) => of(service.GET('/api/v1/messages/counts', { params: { query: filter } })),
  messageSettings: () => of(service.GET('/api/v1/messages/settings')),
  putMessageSettings: (days: number) => of(service.PUT('/api/v1/messages/settings', { body: { days } })),
  gateways: () => of(service.GET('/api/v1/gateways')),
  templates: () => of(service.GET('/api/v1/templates')),
  template: (name: string) => of(service.GET('/api/v1/templates/{name}', { params: ofTemplate(name) })),
  versions: (name: string) => of(service.GET('/api/v1/templates/{name}/versions', { params: ofTemplate(name) })),
  version: (name: string, number: number) =>
    of(service.GET('/api/v1/templates/{name}/versions/{number}', { params: { path: { name, number } } })),
  save: (name: string, body: Schemas['SaveRequest']) =>
    of(service.PUT('/api/v1/templates/{name}', { params: ofTemplate(name), body })),
  check: (name: string, body: Schemas['CheckRequest'], signal?: AbortSignal) =>
    of(service.POST('/api/v1/templates/{name}/check', { params: ofTemplate(name), body, signal })),
  fix: (name: string, body: Schemas['FixRequest'], signal?: AbortSignal) =>
    of(service.POST('/api/v1/templates/{name}/fix', { params: ofTemplate(name), body, signal })),
  map: (name: string, body: Schemas['CheckRequest'], signal?: AbortSignal) =>
    of(service.POST('/api/v1/templates/{name}/map', { params: ofTemplate(name), body, signal })),
  shrink: (name: string, body: Schemas['ShrinkRequest'], signal?: AbortSignal) =>
    of(service.POST('/api/v1/templates/{name}/shrink', { params: ofTemplate(name), body, signal })),
  space: (name: string, body: Schemas['SpaceRequest'], signal?: AbortSignal) =>
    of(service.POST('/api/v1/templates/{name}/space', { params: ofTemplate(name), body, signal })),
  paste: (name: string, body: Schemas['PasteRequest']) =>
    of(service.POST('/api/v1/templates/{name}/paste', { params: ofTemplate(name), body })),
  sheet: (name: string, body: Schemas['SheetRequest']) =>
    fileOf(service.POST('/api/v1/templates/{name}/sheet', { params: ofTemplate(name), body, parseAs: 'blob' })),
  look: (name: string, body: Schemas['LookRequest'], signal?: AbortSignal) =>
    of(service.POST('/api/v1/templates/{name}/look', { params: ofTemplate(name), body, signal })),
  newTemplate: (name: string, body: NewRequest) =>
    of(service.POST('/api/v1/templates/{name}/new', { params: ofTemplate(name), body })),
  newPreview: (body: NewRequest) => of(service.POST('/api/v1/new', { body })),
  starters: () => of(service.GET('/api/v1/starters')),
  forms: () => of(service.GET('/api/v1/forms')),
  clean: (body: Schemas['CleanRequest']) => of(service.POST('/api/v1/clean', { body })),
  fill: (name: string, body: Schemas['FillRequest']) =>
    fileOf(service.POST('/api/v1/templates/{name}/fill', { params: ofTemplate(name), body, parseAs: 'blob' })),
  block: (name: string, body: Schemas['BlockRequest']) =>
    of(service.POST('/api/v1/templates/{name}/block', { params: ofTemplate(name), body })),
  person: (mail: string) => of(service.GET('/api/v1/people/{mail}', { params: { path: { mail } } })),
  people: (search: string, offset: number, limit: number, filter: PeopleFilter = {}) =>
    of(service.GET('/api/v1/people', { params: { query: { search, offset, limit, ...filter } } })),
  hardCases: (template: string) => of(service.GET('/api/v1/people/hard-cases', { params: { query: { template } } })),
  importPeople: (
    file: Blob,
    {
      mapping,
      ...options
    }: {
      replace: boolean
      mapping: Record<string, string>
    },
  ) =>
    of(
      service.POST('/api/v1/people/import', {
        params: {
          query: { ...options, map: Object.entries(mapping).map(([heading, field]) => `${heading}=${field}`) },
        },
        headers: { 'Content-Type': 'text/csv' },
        body: '',
        bodySerializer: () => asIs(file),
      }),
    ),
  editPerson: (mail: string, values: Record<string, string>) =>
    of(service.PATCH('/api/v1/people/{mail}', { params: { path: { mail } }, body: { values } })),
  faults: (query: { kind?: string; search?: string; offset?: number; limit?: number }) =>
    of(service.GET('/api/v1/people/faults', { params: { query } }) as Promise<Answer<Faults>>),
  audiences: () => of(service.GET('/api/v1/audiences')),
  tryAudience: (condition: Condition, signal?: AbortSignal) =>
    of(
      service.POST('/api/v1/audiences/try', {
        params: { query: { limit: 100 } },
        body: { title: '', condition },
        signal,
      }),
    ),
  putAudience: (name: string, title: string, condition: Condition) =>
    of(service.PUT('/api/v1/audiences/{name}', { params: ofTemplate(name), body: { title, condition } })),
  removeAudience: (name: string) => of(service.DELETE('/api/v1/audiences/{name}', { params: ofTemplate(name) })),
  assignments: () => of(service.GET('/api/v1/assignments')),
  putAssignments: (lines: Assignment[], situations: string[], attempt: boolean, signal?: AbortSignal) =>
    of(
      service.PUT('/api/v1/assignments', {
        params: { query: { try: attempt } },
        body: { lines, situations },
        signal,
      }),
    ),
  sources: () => of(service.GET('/api/v1/sources')),
  putSource: (name: string, body: SourceRequest) =>
    of(service.PUT('/api/v1/sources/{name}', { params: ofTemplate(name), body })),
  removeSource: (name: string) => of(service.DELETE('/api/v1/sources/{name}', { params: ofTemplate(name) })),
  syncSource: (name: string) => of(service.POST('/api/v1/sources/{name}/sync', { params: ofTemplate(name) })),
  pauseSource: (name: string) => of(service.POST('/api/v1/sources/{name}/pause', { params: ofTemplate(name) })),
  resumeSource: (name: string) => of(service.POST('/api/v1/sources/{name}/resume', { params: ofTemplate(name) })),
  previewSource: (name: string, mapping: string) =>
    of(service.POST('/api/v1/sources/{name}/preview', { params: ofTemplate(name), body: { mapping } })),
  job: (id: string) => of(service.GET('/api/v1/jobs/{id}', { params: { path: { id } } })),
  stopJob: (id: string) => of(service.POST('/api/v1/jobs/{id}/stop', { params: { path: { id } } })),
  runs: (source = '') => of(service.GET('/api/v1/runs', { params: { query: { source } } })),
  run: (id: number) => of(service.GET('/api/v1/runs/{id}', { params: { path: { id } } })),
  runChanges: (id: number, query: { search?: string; kind?: ChangeKind; offset?: number; limit?: number }) =>
    of(service.GET('/api/v1/runs/{id}/changes', { params: { path: { id }, query } }) as Promise<Answer<RunChanges>>),
  applyRun: (id: number, confirm: boolean) =>
    of(service.POST('/api/v1/runs/{id}/apply', { params: { path: { id }, query: { confirm } } })),
  dropRun: (id: number) => of(service.POST('/api/v1/runs/{id}/drop', { params: { path: { id } } })),
  undoRun: (id: number) => of(service.POST('/api/v1/runs/{id}/undo', { params: { path: { id } } })),
  clients: () => of(service.GET('/api/v1/clients')),
  clientDocument: (id: string) => of(service.GET('/api/v1/clients/{id}/document', { params: { path: { id } } })),
  putClientDocument: (id: string, document: string) =>
    of(service.PUT('/api/v1/clients/{id}/document', { params: { path: { id } }, body: { document, own: true } })),
  removeClientDocument: (id: string) =>
    of(service.DELETE('/api/v1/clients/{id}/document', { params: { path: { id } } })),
  dialects: () => of(service.GET('/api/v1/dialects')),
  fields: () => of(service.GET('/api/v1/fields')),
  packages: () => of(service.GET('/api/v1/packages')),
  createPackage: (body: Schemas['PackageRequest']) => of(service.POST('/api/v1/packages', { body })),
  ways: () => of(service.GET('/api/v1/ways')),
  dialectDocument: (id: string) => of(service.GET('/api/v1/dialects/{id}/document', { params: { path: { id } } })),
  putDialectDocument: (id: string, document: string) =>
    of(service.PUT('/api/v1/dialects/{id}/document', { params: { path: { id } }, body: { document, own: true } })),
  removeDialectDocument: (id: string) =>
    of(service.DELETE('/api/v1/dialects/{id}/document', { params: { path: { id } } })),
  ruleSheet: (name: string, body: Schemas['BlockRequest']) =>
    fileOf(service.POST('/api/v1/templates/{name}/rule-sheet', { params: ofTemplate(name), body, parseAs: 'blob' })),
  removePackage: (id: string) => of(service.DELETE('/api/v1/packages/{id}', { params: { path: { id } } })),
  pictures: () => of(service.GET('/api/v1/pictures')),
  picture: (name: string) => of(service.GET('/api/v1/pictures/{name}', { params: ofPicture(name) })),
  putPicture: (name: string, file: File) =>
    of(
      service.PUT('/api/v1/pictures/{name}', {
        params: { ...ofPicture(name), query: { file: file.name } },
        headers: { 'Content-Type': 'application/octet-stream' },
        body: '',
        bodySerializer: () => asIs(file),
      }),
    ),
  putAlts: (name: string, alts: Record<string, string>) =>
    of(service.PUT('/api/v1/pictures/{name}/alts', { params: ofPicture(name), body: alts })),
  probe: (name: string, width: number, height: number) =>
    of(service.POST('/api/v1/pictures/{name}/probe', { params: ofPicture(name), body: { width, height } })),
  fit: (name: string, recipe: PictureRecipe, keep: boolean, signal?: AbortSignal) =>
    of(service.POST('/api/v1/pictures/{name}/fit', { params: ofPicture(name), body: { recipe, keep }, signal })),
  compress: (name: string, weight: Schemas['PictureWeight'], keep: boolean, signal?: AbortSignal) =>
    of(service.POST('/api/v1/pictures/{name}/compress', { params: ofPicture(name), body: { weight, keep }, signal })),
  pictureChanges: (name: string, template: string, as: string) =>
    of(service.GET('/api/v1/pictures/{name}/changes', { params: { ...ofPicture(name), query: { template, as } } })),
  slice: (name: string, map: SliceMap, keep: boolean, signal?: AbortSignal) =>
    of(service.POST('/api/v1/pictures/{name}/slice', { params: ofPicture(name), body: { map, keep }, signal })),
  usePicture: (name: string, body: Schemas['UseRequest']) =>
    of(service.POST('/api/v1/pictures/{name}/use', { params: ofPicture(name), body })),
  takePicture: (name: string, body: Schemas['UseRequest']) =>
    of(service.POST('/api/v1/pictures/{name}/take', { params: ofPicture(name), body })),
  code: (body: Schemas['CodeRequest']) => of(service.POST('/api/v1/code', { body })),
  pictureSettings: () => of(service.GET('/api/v1/settings/pictures')),
  putPictureSettings: (settings: PictureSettings) => of(service.PUT('/api/v1/settings/pictures', { body: settings })),
  delivery: (name: string) => of(service.GET('/api/v1/templates/{name}/delivery', { params: ofTemplate(name) })),
  chooseDelivery: (name: string, body: Schemas['DeliveryChoice']) =>
    of(service.PUT('/api/v1/templates/{name}/delivery', { params: ofTemplate(name), body })),
  addresses: () => of(service.GET('/api/v1/addresses')),
  checkAddresses: (addresses: string[]) => of(service.POST('/api/v1/addresses', { body: { addresses } })),
  checkTemplateAddresses: (name: string) =>
    of(service.POST('/api/v1/templates/{name}/addresses', { params: ofTemplate(name) })),
  photos: () => of(service.GET('/api/v1/photos')),
  startPhotos: (archive: File, recipe: Record<string, string>) =>
    of(
      service.POST('/api/v1/photos', {
        params: { query: recipe },
        headers: { 'Content-Type': 'application/zip' },
        body: '',
        bodySerializer: () => asIs(archive),
      }),
    ),
  stopPhotos: () => of(service.DELETE('/api/v1/photos')),
}

const name = encodeURIComponent

export function packageFile(id: string): string {
  return `/api/v1/packages/${name(id)}/file`
}

/** A picture's version to be looked at. */
export function pictureView(picture: string, number: number): string {
  return `/api/v1/pictures/${name(picture)}/view?number=${number}`
}

/** The template that a picture's stored cuts make. */
export function slicedFile(picture: string): string {
  return `/api/v1/pictures/${name(picture)}/sliced`
}

/** A template's pictures as they must lie on a web server. */
export function treeFile(template: string): string {
  return `/api/v1/templates/${name(template)}/tree`
}

/** The whole record as CSV. */
export function recordFile(filter: RecordFilter): string {
  const query = new URLSearchParams({ form: 'csv' })
  for (const [key, value] of Object.entries(filter)) if (value) query.set(key, value)
  return `/api/v1/record?${query.toString()}`
}
