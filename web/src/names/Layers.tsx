import type { View } from '../api/client'
import { Mark } from '../parts/Kind'
import { useRoving } from '../parts/roving'
import { Faces } from '../site/Faces'
import type { Names } from './useNames'

type Props = {
  view: View
  names: Names
  lit: Record<string, string>
  onLayer: (of: Names['layers'][number]) => void
  onResolver: (ref: string) => void
  onFace: (face: string) => void
  onAddZone: () => void
  /** Of a site with a resolver. */
  onLook?: () => void
}

/** What a question falls through, from the top; below it the zones seen from outside. */
export function Layers({ view, names, lit, onLayer, onResolver, onFace, onAddZone, onLook }: Props) {
  const layers = useRoving<HTMLDivElement>()
  const inside = names.layers.filter((s) => !s.outside)
  const outside = names.layers.filter((s) => s.outside)
  const layer = (s: Names['layers'][number]) => {
    const on = s.id === names.chosen
    const state = lit[s.id]
    const edge = state === 'answered' ? 'border-l-lichen' : state ? 'border-l-azurite' : 'border-l-slate'
    return (
      <button
        data-row
        key={s.id}
        aria-current={on ? 'true' : undefined}
        onClick={() => onLayer(s)}
        className={
          'block w-full text-left pl-3 pr-3 py-2 border-t ' +
          `${s.outside ? 'border-l-6 border-double' : 'border-l-5'} ${edge} ` +
          (on ? 'bg-sheet border-t-ink border-b border-b-ink' : 'bg-slab border-t-seam hover:bg-sheet')
        }
      >
        <span className="flex justify-between gap-2 font-semibold">
          <span className={s.mono ? 'mono text-[12.5px] [overflow-wrap:anywhere]' : ''}>
            {s.severity && <Mark severity={s.severity} />} {s.title}
          </span>
          {!s.mono && <span className="mono text-ink-3 font-normal">{s.count || ''}</span>}
        </span>
        <span className="flex justify-between gap-2 text-ink-2 text-[12.5px] [overflow-wrap:anywhere]">
          {s.says} {s.mono && <span className="mono text-ink-3">{s.count || ''}</span>}
        </span>
        {state && <span className="sr-only">The question {state} here.</span>}
      </button>
    )
  }
  return (
    <aside
      aria-label="Layers"
      className="border-r border-seam bg-ground pt-3.5 pl-3.5 overflow-auto relative flex flex-col"
    >
      <p className="text-ink text-[14px] font-[650] pr-3">{view.site.name}</p>
      <p className="text-ink-2 text-[12.5px] mb-2 pr-3">
        {view.site.customer} · <span className="mono">{view.site.domain}</span>
      </p>
      <div className="pr-3.5 mb-3">
        <Faces face="names" code={view.site.code} onFace={onFace} />
      </div>
      {names.others.length > 0 && (
        <select
          aria-label="Resolver"
          className="field mb-2 !w-[calc(100%-14px)]"
          value={names.resolver}
          onChange={(e) => onResolver(e.target.value)}
        >
          {names.others.map((r) => (
            <option key={r.ref} value={r.ref}>
              {r.label}
            </option>
          ))}
        </select>
      )}
      <p className="text-ink-2 text-[12px] mb-1.5">Asked in this order</p>
      <div role="presentation" {...layers}>
        <div className="border-b border-seam ml-1.5">{inside.map(layer)}</div>
        {outside.length > 0 && (
          <>
            <p className="text-ink-2 text-[12px] mt-4 mb-1.5">Seen from outside</p>
            <div className="border-b border-seam ml-1.5">{outside.map(layer)}</div>
          </>
        )}
      </div>
      <div className="p-3 pl-1.5 flex flex-wrap gap-2">
        <button className="btn" onClick={onAddZone}>
          Add a zone
        </button>
        {onLook && (
          <button className="btn" onClick={onLook}>
            Resolver status
          </button>
        )}
      </div>
    </aside>
  )
}
