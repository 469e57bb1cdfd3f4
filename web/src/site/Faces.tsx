/** The two faces of a site's page: its addresses and its names. */
export function Faces({ names, onFace }: { names: boolean; onFace: (face: string) => void }) {
  const face = (label: string, on: boolean, to: string) => (
    <button
      className={`flex-1 h-[27px] ${on ? 'bg-basalt text-on-basalt font-semibold' : 'bg-slab text-ink-2 hover:bg-sheet'}`}
      aria-pressed={on}
      onClick={() => {
        onFace(to)
      }}
    >
      {label}
    </button>
  )
  return (
    <div role="group" aria-label="What of the site" className="flex border border-seam rounded-sm overflow-hidden">
      {face('Addresses', !names, '')}
      {face('Names', names, 'names')}
    </div>
  )
}
