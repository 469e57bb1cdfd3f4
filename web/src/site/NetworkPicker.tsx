import type { View } from '../api/client'

/** The Section folded into a choice, on narrow screens. */
export function NetworkPicker({
  view,
  onSite,
  onNetwork,
  onAdd,
}: {
  view: View
  onSite: () => void
  onNetwork: (id: string) => void
  onAdd: () => void
}) {
  return (
    <div className="min-[1001px]:hidden flex items-center gap-3 px-4 py-2 border-b border-seam">
      <button className="font-bold hover:underline" onClick={onSite}>
        {view.site.name}
      </button>
      <select
        aria-label="Network"
        className="field !w-auto"
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
