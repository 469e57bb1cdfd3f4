import type { View } from '../api/client'
import { Mark } from '../parts/Kind'
import { plural } from '../parts/plural'

/** Where the inspector is folded away: what is selected, how much is wrong with it, and the way to both. */
export function Beside({ view, onOpen }: { view: View; onOpen: () => void }) {
  const { part } = view
  const count = part.findings.length + part.more
  const worst = part.findings[0]?.severity
  return (
    <button
      className={
        'min-[1001px]:hidden btn !h-auto min-h-[32px] py-1 mt-2 w-full !whitespace-normal text-left ' + 'print:!hidden'
      }
      onClick={onOpen}
    >
      {worst && <Mark severity={worst} />}
      <span>
        {part.kind} <b>{part.title}</b>
        {count > 0 && `: ${plural(count, 'finding')}`}
      </span>
      <span className="ml-auto text-ink-2">Look and act</span>
    </button>
  )
}
