import { Shape } from '../parts/Kind'
import { pinKind } from './looks'
import type { Ruler } from './geometry'

const pins = [
  ['reservation', 'reservation'],
  ['fixed', 'fixed device'],
  ['interface', 'gateway'],
] as const

/** What the shapes mean that are drawn, and how full the pools are. */
export function Legend({ ruler }: { ruler: Ruler }) {
  const { used, pool, courses } = ruler
  const spans = (kind: string) => courses.some((c) => c.spans.some((s) => s.kind === kind))
  return (
    <span className="ml-auto flex flex-wrap items-center gap-x-3 text-[12px] text-ink-2">
      {(['pool', 'exclusion'] as const).filter(spans).map((kind) => (
        <Key key={kind} kind={kind} says={kind} />
      ))}
      {pins
        .filter(([kind]) => courses.some((c) => c.pins.some((p) => pinKind(p.kind) === kind)))
        .map(([kind, says]) => (
          <Key key={kind} kind={kind === 'interface' ? 'gateway' : kind} says={says} />
        ))}
      {courses.some((c) => c.names.length > 0) && (
        <span className="whitespace-nowrap">
          <svg aria-hidden width="4" height="8" className="inline mr-1">
            <rect width="4" height="7" y="1" fill="var(--azurite)" />
          </svg>
          name
        </span>
      )}
      {courses.some((c) => c.seen.length > 0) && (
        <span className="whitespace-nowrap">
          <svg aria-hidden width="6" height="8" className="inline mr-1">
            <circle cx="3" cy="5" r="2.300" fill="var(--malachite)" />
          </svg>
          seen
        </span>
      )}
      {pool > 0 && (
        <span className="whitespace-nowrap text-ink">
          {used} of {pool} pool addresses in use
        </span>
      )}
    </span>
  )
}

function Key({ kind, says }: { kind: Parameters<typeof Shape>[0]['kind']; says: string }) {
  return (
    <span className="whitespace-nowrap">
      <Shape kind={kind} />
      <span className="-ml-1">{says}</span>
    </span>
  )
}
