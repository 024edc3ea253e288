import type { Release, Standing } from '../api/api'
import { Severity } from '../pages/parts'

const marks = { draft: 'note', checked: 'degrades', approved: 'fine', out: 'fine', withdrawn: 'breaks' } as const

const says: Record<Release['state'], string> = {
  draft: 'being checked',
  checked: 'waits for approval',
  approved: 'approved',
  out: 'out',
  withdrawn: 'withdrawn',
}

/** How far a release is, by sign and word. */
export function StateMark({ release }: { release: Release }) {
  if (release.state === 'draft' && (release.job.state === 'failed' || release.job.state === 'stopped'))
    return <Severity of="breaks">the checks {release.job.state}</Severity>
  return (
    <Severity of={marks[release.state]}>
      {says[release.state]}
      {release.paused && ', paused'}
    </Severity>
  )
}

const standingMarks: Record<Standing, 'fine' | 'note' | 'degrades' | 'breaks'> = {
  current: 'fine',
  stale: 'degrades',
  older: 'degrades',
  silent: 'note',
  unknown: 'degrades',
  none: 'note',
  altered: 'breaks',
  missing: 'breaks',
}

/** How things stand with a signature, by sign and word. */
export function StandingMark({ of }: { of: Standing }) {
  return <Severity of={standingMarks[of]}>{of}</Severity>
}

/** What each standing means. */
export const standings: Record<Standing, string> = {
  current: 'it has what it should',
  stale: 'of this release, but the person’s values changed since',
  older: 'of a release before',
  silent: 'not heard from for two weeks',
  unknown: 'the desk cannot read what is there',
  none: 'no desk reported',
  altered: 'altered since it was placed',
  missing: 'gone since it was placed',
}

/** The pages about how signatures get to people, and whether they are there. */
export const deskPages = [
  { to: '/desks', label: 'Proof' },
  { to: '/desks/add-on', label: 'Add-on' },
]
