import type { Schemas, View } from '../api/client'
import { Mark } from '../parts/Kind'
import { useRoving } from '../parts/roving'
import { Faces } from '../site/Faces'

type Props = {
  view: View
  selected: boolean
  onSite: () => void
  onNetwork: (id: string) => void
  onAdd: (prefix?: string) => void
  onFace: (face: string) => void
}

/** The site's block from low to high address, one layer a network. */
export function Section({ view, selected, onSite, onNetwork, onAdd, onFace }: Props) {
  const worst = view.wide.severity
  const layers = useRoving<HTMLDivElement>()
  return (
    <aside
      aria-label="Section"
      className="border-r border-seam bg-ground pt-3.5 pl-3.5 overflow-auto relative flex flex-col"
    >
      <div className="text-ink text-[14px] font-[650] pr-3">
        <button
          className="text-left hover:underline"
          aria-pressed={selected}
          title="What holds for the whole site"
          onClick={onSite}
        >
          {worst && <Mark severity={worst} />} {view.site.name}
        </button>
      </div>
      <p className="text-ink-2 text-[12.5px] mb-2.5 pr-3">
        {view.site.customer} · <span className="mono">{view.site.block}</span>
      </p>
      <div className="pr-3.5 mb-3">
        <Faces face="" code={view.site.code} onFace={onFace} />
      </div>
      {/* The arrows move between the buttons inside. */}
      <div role="presentation" {...layers}>
        {view.layers.map((l) => {
          const { id } = l
          const on = id !== undefined && id === view.network?.id
          const height = 16 + l.weight * 4.6
          if (!id)
            return (
              <button
                data-row
                key={l.text}
                onClick={() => {
                  onAdd(l.prefix)
                }}
                title="Add a network here"
                style={{ minHeight: Math.max(24, height * 0.55) }}
                className={
                  'hatch block w-[calc(100%-6px)] ml-1.5 border-t border-seam border-l-5 border-l-seam ' +
                  'text-left px-3 py-1 text-ink-2 hover:text-ink'
                }
              >
                <span className="mono">{l.text}</span> free
              </button>
            )
          return (
            <button
              data-row
              key={id}
              aria-current={on ? 'true' : undefined}
              onClick={() => onNetwork(id)}
              style={{
                minHeight: Math.max(42, height),
                marginLeft: l.overlaps ? 22 : 6,
                width: `calc(100% - ${l.overlaps ? 22 : 6}px)`,
                marginTop: l.overlaps ? -10 : 0,
              }}
              className={
                'relative block text-left pl-3 pr-3 py-1.5 border-t border-l-5 ' +
                (on
                  ? 'bg-sheet border-t-ink border-b border-b-ink border-l-lichen z-10'
                  : 'bg-slab border-t-seam border-l-slate hover:bg-sheet') +
                (l.overlaps ? ' !border-l-cinnabar' : '')
              }
            >
              <span className="flex justify-between gap-2 font-semibold">
                <span>
                  {l.severity && <Mark severity={l.severity} />} {l.name}
                </span>
                <span className="mono text-ink-3 font-normal" title={l.vlan ? `VLAN ${l.vlan}` : 'untagged'}>
                  {l.vlan || '–'}
                </span>
              </span>
              <span className="flex justify-between gap-2 text-ink-2">
                <span className="mono">{l.text}</span>
                {l.pool > 0 && <Use layer={l} />}
              </span>
            </button>
          )
        })}
      </div>
      <div className="p-3">
        <button
          className="btn"
          onClick={() => {
            onAdd()
          }}
        >
          Add a network
        </button>
      </div>
    </aside>
  )
}

function Use({ layer: l }: { layer: Schemas['Layer'] }) {
  return (
    <span
      className={`text-[12px] ${l.crowded ? 'text-cinnabar-ink font-[650]' : ''}`}
      title={`${l.used} of ${l.pool} pool addresses in use`}
    >
      {l.percent}%
    </span>
  )
}
