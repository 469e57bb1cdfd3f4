import { looks } from './looks'
import type { Ruler } from './geometry'

/** The whole of a network in one line, where its addresses are not what the page is about. */
export function Strip({ ruler, onOpen }: { ruler: Ruler; onOpen: () => void }) {
  const first = ruler.courses[0]
  const last = ruler.courses.at(-1)
  if (!first || !last) return null
  const size = last.to + 1 - first.from
  const part = (from: number, to: number) => ({ x: from - first.from, width: Math.max(to + 1 - from, size / 400) })
  return (
    <button
      className="block w-full h-[18px] border border-seam bg-sheet"
      id="ruler"
      data-place="ruler"
      aria-label={`Addresses ${first.first} to ${last.last}; opens the ruler`}
      title={`${first.first} – ${last.last}`}
      onClick={onOpen}
    >
      <svg viewBox={`0 0 ${size} 16`} preserveAspectRatio="none" className="w-full h-full block" aria-hidden>
        {ruler.courses.map((c) => (
          <g key={c.from}>
            {c.spans
              .filter((s) => s.ref)
              .map((s) => (
                <rect
                  key={`${s.kind}${s.ref}${s.from}`}
                  {...part(s.from, s.to)}
                  y={1}
                  height={8}
                  fill={s.off ? 'var(--sheet)' : s.kind === 'exclusion' ? 'var(--sand-line)' : looks[s.kind]?.fill}
                  stroke={looks[s.kind]?.stroke}
                  vectorEffect="non-scaling-stroke"
                />
              ))}
            {c.pins.map((p) => (
              <rect key={`${p.ref}${p.at}`} {...part(p.at, p.at)} y={10} height={5} fill="var(--ink-2)" />
            ))}
            {c.conflicts.map((f) => (
              <rect key={`${f.finding}${f.from}`} {...part(f.from, f.to)} y={0} height={16} fill="var(--cinnabar)" />
            ))}
          </g>
        ))}
      </svg>
    </button>
  )
}
