import { Link } from 'react-router'
import { plural } from '../parts/plural'
import { clock } from './Night'
import type { Plan } from './useMove'

type Phase = Plan['phases'][number]

const stages: Record<string, string> = {
  later: 'drafted when the phase before has landed',
  drafted: 'drafted',
  rehearsed: 'rehearsed',
  waiting: 'starts automatically',
  pushing: 'being pushed',
  landed: 'landed',
  returned: 'returned',
  dropped: 'dropped',
}

/** The phases of a move, each a work order of its own. */
export function Phases({ plan, next }: { plan: Plan; next?: number }) {
  return (
    <section aria-label="Phases">
      <h2 className="!text-ink !text-[20px]">Phases</h2>
      <ol className="mt-2">
        {plan.phases.map((p) => (
          <li
            key={p.seq}
            className={`border-l-4 pl-3.5 py-1.5 mb-1 ${
              p.stage === 'landed' ? 'border-malachite' : p.seq === next ? 'border-lichen-line' : 'border-seam'
            }`}
          >
            <div className="flex items-baseline gap-2 flex-wrap">
              <b className="text-[15px]">{p.kind === 'elsewhere' ? `At ${p.title}` : p.title}</b>
              <span className="ml-auto text-[12.5px] text-ink-2">{clock(p.notBefore, plan.zone)}</span>
            </div>
            <p className="text-[13px] text-ink-2">{p.says}</p>
            {p.proof && p.proof.steps > 0 && <Proof proof={p.proof} />}
            {p.order ? (
              <p className="text-[13px] mt-0.5">
                <Link className="underline font-semibold" to={`/orders/${p.order}`}>
                  {p.name}
                </Link>
                , {p.stage && stages[p.stage]}
                {p.overdue && <b className="text-cinnabar-ink">, overdue since {clock(p.notAfter, plan.zone)}</b>}
              </p>
            ) : (
              <p className="text-[13px] text-ink-2">
                {plural(p.edits, 'edit')}, until {clock(p.notAfter, plan.zone)}
              </p>
            )}
          </li>
        ))}
      </ol>
    </section>
  )
}

function Proof({ proof }: { proof: NonNullable<Phase['proof']> }) {
  const gaps = proof.gaps.filter((g) => g.kind !== 'unserved')
  const unserved = proof.gaps.filter((g) => g.kind === 'unserved')
  return (
    <p className="text-[13px] text-ink-2">
      {plural(proof.steps, 'step')} on {plural(proof.devices, 'device')}
      {proof.devices > 1 && `, ${proof.first} first, ${proof.last} last`}.{' '}
      {gaps.length === 0 &&
        !proof.console &&
        'At no step do two hold the same, or is a device out of reach: simulated.'}
      {unserved.map((g) => (
        <span key={g.says}>
          {' '}
          From step {g.after} to {g.until}: {g.says}.
        </span>
      ))}
      {gaps.map((g) => (
        <b key={g.says} className="text-cinnabar-ink">
          {' '}
          From step {g.after} to {g.until}: {g.says}.
        </b>
      ))}
      {proof.console && <b className="text-cinnabar-ink"> Somebody has to be at its console. {proof.console}.</b>}
    </p>
  )
}

export function MoveFindings({ plan }: { plan: Plan }) {
  if (plan.findings.length === 0) return null
  return (
    <section aria-label="What is wrong with it" className="mt-4">
      <h2>Problems</h2>
      <ul className="mt-1">
        {plan.findings.map((f, i) => (
          <li
            key={i}
            className={`border-l-3 px-3 py-1.5 mb-1 ${
              f.severity === 'blocks'
                ? 'border-cinnabar bg-cinnabar-t text-cinnabar-ink'
                : 'border-sand bg-sand-t text-sand-ink'
            }`}
          >
            <b>{f.title}.</b> {f.says}
          </li>
        ))}
      </ul>
    </section>
  )
}
