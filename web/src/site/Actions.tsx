import type { Change, Schemas } from '../api/client'
import { SmallButton } from '../parts/SmallButton'
import type { Asked } from './pageState'

type Props = {
  actions: Schemas['Action'][]
  of?: { ref: string; in?: string }
  busy: boolean
  change: (change: Change) => void
  ask: (asked: Asked) => void
}

/** What the server offers to do with a part: a form, an entry, or its removal. */
export function Actions({ actions, of, busy, change, ask }: Props) {
  return actions.map((a) => (
    <SmallButton
      key={a.label}
      disabled={busy && !a.form}
      onClick={() => {
        if (a.form) ask({ kind: 'form', form: a.form })
        else if (a.entry) change({ entries: [a.entry] })
        else if (a.remove && of) change({ remove: of.ref, in: of.in })
      }}
    >
      {a.label}
    </SmallButton>
  ))
}
