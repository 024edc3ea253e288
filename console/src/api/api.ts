// Calls to the service. The types come from its OpenAPI document (npm run types).
import type { components } from './schema'

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
export type PeoplePage = Schemas['PeoplePage']
export type VersionInfo = Schemas['VersionInfo']
export type HardCase = Schemas['HardCase']
export type ImportPlan = Schemas['ImportPlan']
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

/** A refusal by the service, in its own words (RFC 9457). */
export class Refusal extends Error {
  status: number
  mistakes: Mistake[]

  constructor(status: number, detail: string, mistakes: Mistake[]) {
    super(detail)
    this.status = status
    this.mistakes = mistakes
  }
}

async function call<T>(path: string, init: RequestInit = {}): Promise<T> {
  let answer: Response
  try {
    answer = await fetch('/api/v1' + path, init)
  } catch (error) {
    if (error instanceof DOMException && error.name === 'AbortError') throw error
    throw new Refusal(0, 'The service does not answer. Is it still running?', [])
  }
  if (answer.status === 204) return undefined as T
  const type = answer.headers.get('Content-Type') ?? ''
  if (!type.includes('json')) throw new Refusal(answer.status, `The service answered ${answer.status} ${answer.statusText}.`, [])
  const body = await answer.json()
  if (!answer.ok) throw new Refusal(answer.status, body.detail ?? answer.statusText, body.errors ?? [])
  return body as T
}

function post<T>(path: string, body: unknown, signal?: AbortSignal): Promise<T> {
  return call<T>(path, { method: 'POST', headers: { 'Content-Type': 'application/json' }, body: JSON.stringify(body), signal })
}

function put<T>(path: string, body: unknown): Promise<T> {
  return call<T>(path, { method: 'PUT', headers: { 'Content-Type': 'application/json' }, body: JSON.stringify(body) })
}

/** A file that the service makes, with its name. */
async function fetchFile(path: string, body: unknown): Promise<{ name: string; data: Blob }> {
  const answer = await fetch('/api/v1' + path, { method: 'POST', headers: { 'Content-Type': 'application/json' }, body: JSON.stringify(body) })
  if (!answer.ok) {
    const problem = await answer.json()
    throw new Refusal(answer.status, problem.detail ?? answer.statusText, problem.errors ?? [])
  }
  const name = /filename="([^"]+)"/.exec(answer.headers.get('Content-Disposition') ?? '')?.[1] ?? 'signature'
  return { name, data: await answer.blob() }
}

const name = encodeURIComponent

export const api = {
  templates: () => call<TemplateSummary[]>('/templates'),
  template: (template: string) => call<TemplateDetail>(`/templates/${name(template)}`),
  versions: (template: string) => call<VersionInfo[]>(`/templates/${name(template)}/versions`),
  version: (template: string, number: number) => call<TemplateDetail>(`/templates/${name(template)}/versions/${number}`),
  save: (template: string, body: Schemas['SaveRequest']) =>
    call<TemplateDetail>(`/templates/${name(template)}`, {
      method: 'PUT',
      headers: { 'Content-Type': 'application/json' },
      body: JSON.stringify(body),
    }),
  check: (template: string, body: Schemas['CheckRequest'], signal?: AbortSignal) =>
    post<Report>(`/templates/${name(template)}/check`, body, signal),
  fix: (template: string, body: Schemas['FixRequest']) => post<Fixed>(`/templates/${name(template)}/fix`, body),
  map: (template: string, body: Schemas['CheckRequest'], signal?: AbortSignal) => post<SurvivalMap>(`/templates/${name(template)}/map`, body, signal),
  shrink: (template: string, body: Schemas['ShrinkRequest'], signal?: AbortSignal) => post<Shrunk>(`/templates/${name(template)}/shrink`, body, signal),
  room: (template: string, body: Schemas['RoomRequest'], signal?: AbortSignal) => post<Space>(`/templates/${name(template)}/room`, body, signal),
  paste: (template: string, body: Schemas['PasteRequest']) => post<Pasted>(`/templates/${name(template)}/paste`, body),
  sheet: (template: string, body: Schemas['SheetRequest']) => fetchFile(`/templates/${name(template)}/sheet`, body),
  look: (template: string, body: Schemas['LookRequest'], signal?: AbortSignal) =>
    post<Look>(`/templates/${name(template)}/look`, body, signal),
  newTemplate: (template: string, body: NewRequest) => post<TemplateDetail>(`/templates/${name(template)}/new`, body),
  newPreview: (body: NewRequest) => post<NewPreview>('/new', body),
  starters: () => call<Starter[]>('/starters'),
  forms: () => call<Form[]>('/forms'),
  clean: (body: Schemas['CleanRequest']) => post<CleanResult>('/clean', body),
  fill: (template: string, body: Schemas['FillRequest']) => fetchFile(`/templates/${name(template)}/fill`, body),
  block: (template: string, body: Schemas['BlockRequest']) => post<Exported>(`/templates/${name(template)}/block`, body),
  person: (mail: string) => call<Schemas['PersonDetail']>(`/people/${name(mail)}`),
  people: (search: string, offset: number, limit: number) =>
    call<PeoplePage>(`/people?search=${name(search)}&offset=${offset}&limit=${limit}`),
  hardCases: (template: string) => call<HardCase[]>(`/people/hard-cases?template=${name(template)}`),
  importPeople: (file: Blob, options: { apply: boolean; replace: boolean; revision?: number; mapping: Record<string, string> }) => {
    const query = new URLSearchParams({ apply: String(options.apply), replace: String(options.replace) })
    if (options.revision !== undefined) query.set('revision', String(options.revision))
    for (const [heading, field] of Object.entries(options.mapping)) query.append('map', `${heading}=${field}`)
    return call<ImportPlan>(`/people/import?${query}`, { method: 'POST', headers: { 'Content-Type': 'text/csv' }, body: file })
  },
  clients: () => call<Client[]>('/clients'),
  clientDocument: (id: string) => call<ClientDocument>(`/clients/${name(id)}/document`),
  putClientDocument: (id: string, document: string) => put<Client>(`/clients/${name(id)}/document`, { document, own: true }),
  removeClientDocument: (id: string) => call<undefined>(`/clients/${name(id)}/document`, { method: 'DELETE' }),
  dialects: () => call<Dialect[]>('/dialects'),
  fields: () => call<FieldReference>('/fields'),
  packages: () => call<PackageInfo[]>('/packages'),
  createPackage: (template: string) => post<PackageInfo>('/packages', { template }),
  pictures: () => call<PictureSummary[]>('/pictures'),
  picture: (picture: string) => call<PictureRecord>(`/pictures/${name(picture)}`),
  putPicture: (picture: string, file: File) =>
    call<PictureRecord>(`/pictures/${name(picture)}?${new URLSearchParams({ file: file.name })}`, { method: 'PUT', headers: { 'Content-Type': 'application/octet-stream' }, body: file }),
  putAlts: (picture: string, alts: Record<string, string>) => put<PictureRecord>(`/pictures/${name(picture)}/alts`, alts),
  probe: (picture: string, width: number, height: number) => post<ProbeAnswer>(`/pictures/${name(picture)}/probe`, { width, height }),
  fit: (picture: string, recipe: PictureRecipe, keep: boolean, signal?: AbortSignal) => post<MadePicture>(`/pictures/${name(picture)}/fit`, { recipe, keep }, signal),
  compress: (picture: string, weight: Schemas['PictureWeight'], keep: boolean, signal?: AbortSignal) => post<MadePicture>(`/pictures/${name(picture)}/compress`, { weight, keep }, signal),
  pictureChanges: (picture: string, template: string, as: string) => call<Schemas['PictureChanges']>(`/pictures/${name(picture)}/changes?${new URLSearchParams({ template, as })}`),
  slice: (picture: string, map: SliceMap, keep: boolean, signal?: AbortSignal) => post<SlicedPicture>(`/pictures/${name(picture)}/slice`, { map, keep }, signal),
  usePicture: (picture: string, body: Schemas['UseRequest']) => post<TemplateDetail>(`/pictures/${name(picture)}/use`, body),
  takePicture: (picture: string, body: Schemas['UseRequest']) => post<TemplateDetail>(`/pictures/${name(picture)}/take`, body),
  code: (body: Schemas['CodeRequest']) => post<Schemas['CodeAnswer']>('/code', body),
  pictureSettings: () => call<PictureSettings>('/settings/pictures'),
  putPictureSettings: (settings: PictureSettings) => put<PictureSettings>('/settings/pictures', settings),
  delivery: (template: string) => call<Consequence[]>(`/templates/${name(template)}/delivery`),
  chooseDelivery: (template: string, choice: Schemas['DeliveryChoice']) => put<Consequence[]>(`/templates/${name(template)}/delivery`, choice),
  addresses: () => call<CheckedAddress[]>('/addresses'),
  checkAddresses: (addresses: string[]) => post<CheckedAddress[]>('/addresses', { addresses }),
  checkTemplateAddresses: (template: string) => post<CheckedAddress[]>(`/templates/${name(template)}/addresses`, {}),
  photos: () => call<PhotoState>('/photos'),
  startPhotos: (archive: File, recipe: Record<string, string>) =>
    call<PhotoState>(`/photos?${new URLSearchParams(recipe)}`, { method: 'POST', headers: { 'Content-Type': 'application/zip' }, body: archive }),
  stopPhotos: () => call<PhotoState>('/photos', { method: 'DELETE' }),
  removePackage: (id: string) => call<undefined>(`/packages/${name(id)}`, { method: 'DELETE' }),
}

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
