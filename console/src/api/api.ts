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
export type TidyResult = Schemas['TidyResult']
export type Adopted = Schemas['Adopted']
export type AdoptRequest = Schemas['AdoptRequest']

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
  look: (template: string, body: Schemas['LookRequest'], signal?: AbortSignal) =>
    post<Look>(`/templates/${name(template)}/look`, body, signal),
  start: (template: string, starter: string, author: string) => post<TemplateDetail>(`/templates/${name(template)}/start`, { starter, author }),
  adopt: (template: string, body: AdoptRequest) => post<TemplateDetail>(`/templates/${name(template)}/adopt`, body),
  wouldAdopt: (body: AdoptRequest) => post<Adopted>('/adopt', body),
  starters: () => call<Starter[]>('/starters'),
  forms: () => call<Form[]>('/forms'),
  tidy: (body: Schemas['TidyRequest']) => post<TidyResult>('/tidy', body),
  fill: (template: string, body: Schemas['FillRequest']) => fetchFile(`/templates/${name(template)}/fill`, body),
  rule: (template: string, body: Schemas['RuleRequest']) => post<Exported>(`/templates/${name(template)}/rule`, body),
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
  dialects: () => call<Dialect[]>('/dialects'),
  fields: () => call<FieldReference>('/fields'),
  packages: () => call<PackageInfo[]>('/packages'),
  createPackage: (template: string) => post<PackageInfo>('/packages', { template }),
  removePackage: (id: string) => call<undefined>(`/packages/${name(id)}`, { method: 'DELETE' }),
}

export function packageFile(id: string): string {
  return `/api/v1/packages/${name(id)}/file`
}
