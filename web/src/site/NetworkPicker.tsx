import { Link } from 'react-router'
import type { View } from '../api/client'

/** The Section folded into a choice, on narrow screens. */
export function NetworkPicker({
  view,
  onSite,
  onNetwork,
  onAdd,
  onFace,
}: {
  view: View
  onSite: () => void
  onNetwork: (id: string) => void
  onAdd: () => void
  onFace: (face: string) => void
}) {
  return (
    <div
      className={
        'min-[1001px]:hidden flex flex-wrap items-center gap-x-3 gap-y-1 px-4 max-[480px]:px-2.5 py-2 border-b ' +
        'border-seam print:hidden'
      }
    >
      <button className="font-bold hover:underline text-left max-[480px]:basis-full" onClick={onSite}>
        {view.site.name}
      </button>
      <select
        aria-label="Network"
        className="field !w-auto min-w-0 max-w-full max-[480px]:flex-1"
        value={view.network?.id}
        onChange={(e) => {
          onNetwork(e.target.value)
        }}
      >
        {view.layers
          .filter((l) => l.kind === 'network')
          .map((l) => (
            <option key={l.id} value={l.id}>
              {l.name} {l.prefix}
            </option>
          ))}
      </select>
      <button className="btn" onClick={() => onFace('names')}>
        Names
      </button>
      <Link className="btn" to={`/sites/${view.site.code}/history`}>
        History
      </Link>
      <button
        className="btn"
        onClick={() => {
          onAdd()
        }}
      >
        Add a network
      </button>
    </div>
  )
}
