import { Page } from '../pages/parts'
import { AccessHead } from './AccessHead'
import { Keys } from './keys'

/** The keys of programs. */
export function KeysPage() {
  return (
    <Page>
      <AccessHead title="Keys">
        With a key a program names itself. It begins with missivum-, so that one that stands where it does not belong
        can be searched for.
      </AccessHead>
      <Keys own={false} />
    </Page>
  )
}
