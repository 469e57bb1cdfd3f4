import type { Schemas } from '../api/client'
import { Marked } from '../parts/Marked'
import { plural } from '../parts/plural'

type Part = Schemas['DevicePlan']
type Gap = Schemas['Gap']

/** The steps in the order in which they are carried out, with their reasons, and what is not so in between. */
export function Plans({ plans, gaps, landed }: { plans: Part[]; gaps: Gap[]; landed: boolean }) {
  if (plans.length === 0) return <p className="mt-4 text-ink-2">Nothing changes on any device yet.</p>
  return (
    <>
      {plans.map((p) => (
        <section key={p.first} className="mt-3.5" aria-label={`Steps on ${p.device} from ${p.first}`}>
          <div className="flex items-baseline gap-2.5">
            <b className="whitespace-nowrap">{p.device}</b>
            <span className="text-[12.5px] text-ink-3">
              {p.kind}, {plural(p.steps.length, 'step')}, {how(p)}
            </span>
          </div>
          <ol start={p.first}>
            {p.steps.map((s, n) => (
              <li key={n} className="grid grid-cols-[26px_1fr] gap-2 py-1.5 border-b border-seam-2">
                <span
                  className={
                    'min-w-[22px] h-[22px] border-[1.5px] grid place-items-center mono !text-[11.5px] ' +
                    (landed && !p.byHand
                      ? 'bg-malachite-t border-malachite text-malachite-ink'
                      : 'border-ink-3 text-ink-2')
                  }
                >
                  {p.first + n}
                </span>
                <div className="min-w-0">
                  <span className={s.adds ? 'text-malachite-ink' : 'text-cinnabar-ink'}>{s.verb}</span>{' '}
                  <Marked text={s.text} />
                  <div className="text-[12.5px] text-ink-3">
                    <Marked text={s.why} />
                  </div>
                  {gaps
                    .filter((g) => g.after === p.first + n)
                    .map((g) => (
                      <InBetween key={g.says} gap={g} />
                    ))}
                </div>
              </li>
            ))}
          </ol>
        </section>
      ))}
    </>
  )
}

function how(p: Part): string {
  if (p.kind === 'zone')
    return p.byHand
      ? 'to be made by hand: its form names no server and key'
      : `written to ${p.holder ?? ''} when every device is ready`
  return p.byHand
    ? 'done by hand before the others: Lithos does not reach it'
    : `undoes the change if Lithos is not heard for ${p.timeout}\u00a0s`
}

/** What is not so from a step on until another, said before it happens. */
function InBetween({ gap }: { gap: Gap }) {
  const long = gap.seconds > 0 ? `, about ${gap.seconds} s` : ''
  return (
    <div className="text-[12.5px] text-sand-ink border-l-3 border-sand bg-sand-t pl-2 pr-1 py-0.5 mt-1">
      <Marked text={gap.says} /> until step {gap.until}
      {long}
      {gap.kind === 'lost' && ': somebody has to be at its console'}.
    </div>
  )
}
