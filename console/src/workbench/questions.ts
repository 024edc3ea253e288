// What the workbench asks the service about a revision of the draft. An answer is kept under the revision's number.
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { api } from '../api/api'
import type { Revision } from './state'

/** For whom, in which variant, and as which client the signature is looked at. */
export interface Sitter {
  person: string
  variant: string
  /** Empty: as written. */
  client: string
}

/** How the reader looks at a message. */
export interface View {
  dark: boolean
  blocked: boolean
}

export const plainView: View = { dark: false, blocked: false }

const shortLived = { placeholderData: keepPreviousData, gcTime: 10_000 } as const // in milliseconds

export function useReport(template: string, { number, draft }: Revision) {
  return useQuery({
    queryKey: ['check', template, number],
    queryFn: ({ signal }) => api.check(template, draft, signal),
    ...shortLived,
  })
}

export function useLook(
  template: string,
  { number, draft }: Revision,
  { person, variant, client }: Sitter,
  view: View = plainView,
) {
  const seen = client ? view : plainView
  return useQuery({
    queryKey: ['look', template, number, person, variant, client, seen],
    queryFn: ({ signal }) => api.look(template, { ...draft, person, variant, client, ...seen }, signal),
    ...shortLived,
  })
}

export function useMap(template: string, { number, draft }: Revision) {
  return useQuery({
    queryKey: ['map', template, number],
    queryFn: ({ signal }) => api.map(template, draft, signal),
    ...shortLived,
  })
}

export function useSpace(template: string, { number, draft }: Revision, { person, variant, client }: Sitter) {
  return useQuery({
    queryKey: ['space', template, number, client, variant, person],
    queryFn: ({ signal }) => api.space(template, { ...draft, client, variant, person }, signal),
    ...shortLived,
  })
}

export function useShrink(template: string, { number, draft }: Revision, client: string, target: number) {
  return useQuery({
    queryKey: ['shrink', template, number, client, target],
    queryFn: ({ signal }) => api.shrink(template, { ...draft, client, target }, signal),
    ...shortLived,
    gcTime: 0,
  })
}

/** The fix of one finding, or of all that are safe but those of some checks. */
export function useFix(
  template: string,
  { number, draft }: Revision,
  asked: { checks: string[]; at: number } | { except: string[] },
) {
  return useQuery({
    queryKey: ['fix', template, number, asked],
    queryFn: ({ signal }) => api.fix(template, { ...draft, ...asked }, signal),
    ...shortLived,
    gcTime: 0,
  })
}
