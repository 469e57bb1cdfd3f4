import { Shape } from '../parts/Kind'

export function Legend({ used, pool }: { used: number; pool: number }) {
  const kinds = [
    ['pool', 'pool'],
    ['exclusion', 'exclusion'],
    ['reservation', 'reservation'],
    ['fixed', 'fixed device'],
    ['gateway', 'gateway'],
  ] as const
  return (
    <span className="ml-auto flex flex-wrap items-center gap-x-3 text-[12px] text-ink-2">
      {kinds.map(([kind, says]) => (
        <span key={kind} className="whitespace-nowrap">
          <Shape kind={kind} />
          <span className="-ml-1">{says}</span>
        </span>
      ))}
      <span className="whitespace-nowrap">
        <svg aria-hidden width="4" height="8" className="inline mr-1">
          <rect width="4" height="7" y="1" fill="var(--azurite)" />
        </svg>
        name
      </span>
      <span className="whitespace-nowrap">
        <svg aria-hidden width="6" height="8" className="inline mr-1">
          <circle cx="3" cy="5" r="2.300" fill="var(--malachite)" />
        </svg>
        seen
      </span>
      {pool > 0 && (
        <span className="whitespace-nowrap text-ink">
          {used} of {pool} pool addresses in use
        </span>
      )}
    </span>
  )
}
