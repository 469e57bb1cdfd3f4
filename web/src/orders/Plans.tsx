import type { Schemas } from '../api/client'
import { Marked } from '../parts/Marked'
import { plural } from '../parts/plural'

/** The ordered steps for each device, with their reasons. */
export function Plans({ plans, landed }: { plans: Schemas['DevicePlan'][]; landed: boolean }) {
  if (plans.length === 0) return <p className="mt-4 text-ink-2">Nothing changes on any device yet.</p>
  return (
    <>
      {plans.map((p) => (
        <section key={p.device} className="mt-3.5" aria-label={`Steps on ${p.device}`}>
          <div className="flex items-baseline gap-2.5">
            <b className="whitespace-nowrap">{p.device}</b>
            <span className="text-[12.5px] text-ink-3">
              {p.kind}, {plural(p.steps.length, 'step')},{' '}
              {p.kind === 'zone'
                ? p.byHand
                  ? 'to be made by hand: its form names no server and key'
                  : `written to ${p.holder ?? ''} when every device is ready`
                : p.byHand
                  ? 'to be done by hand: Lithos does not reach it'
                  : `undoes the change if Lithos is not heard for ${p.timeout} s`}
            </span>
          </div>
          <ol>
            {p.steps.map((s, n) => (
              <li key={s.path + s.method} className="grid grid-cols-[26px_1fr] gap-2 py-1.5 border-b border-seam-2">
                <span
                  className={`w-[22px] h-[22px] border-[1.5px] grid place-items-center mono !text-[11.5px] ${landed && !p.byHand ? 'bg-malachite border-malachite text-white' : 'border-ink-3 text-ink-2'}`}
                >
                  {n + 1}
                </span>
                <div>
                  <span className={s.adds ? 'text-malachite-ink' : 'text-cinnabar-ink'}>{s.verb}</span>{' '}
                  <Marked text={s.text} />
                  <div className="text-[12.5px] text-ink-3">
                    <Marked text={s.why} />
                  </div>
                </div>
              </li>
            ))}
          </ol>
        </section>
      ))}
    </>
  )
}
