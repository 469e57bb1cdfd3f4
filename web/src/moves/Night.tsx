import { useState } from 'react'
import { plural } from '../parts/plural'
import { Table, type Column } from '../parts/Table'
import { SmallButton } from '../parts/SmallButton'
import type { Plan } from './useMove'

type Fate = Plan['night']['fates'][number]

/** Seconds as people say them. */
function span(seconds: number): string {
  if (seconds < 90) return `${seconds} s`
  if (seconds < 90 * 60) return `${Math.round(seconds / 60)} min`
  return `${(seconds / 3600).toFixed(1)} h`
}

const wide = 760
const tall = 90

const columns: Column[] = [
  ['Client', '18%'],
  ['Was', '14%'],
  ['Will be', '14%'],
  ['Without service'],
  ['Without name servers'],
]
const misled: Column = ['Its name leads elsewhere']

/** How many rows are drawn at first. */
const few = 12

/** The simulated night: how many clients are without service, and who is worst off. */
export function Night({ plan }: { plan: Plan }) {
  const n = plan.night
  const most = Math.max(...n.curve, 1)
  const points = n.curve.map(
    (v, i) => `${(i / Math.max(n.curve.length - 1, 1)) * wide},${tall - (v / most) * (tall - 8)}`,
  )
  const [all, setAll] = useState(false)
  const hurt = n.fates.filter((f) => f.seconds + f.nameServers.seconds + f.ownName.seconds > 0)
  const when = new Intl.DateTimeFormat('en-GB', {
    day: 'numeric',
    month: 'short',
    hour: '2-digit',
    minute: '2-digit',
    timeZone: plan.zone || undefined,
  })
  const anyMisled = n.fates.some((f) => f.ownName.seconds > 0)
  if (n.clients === 0)
    return (
      <section aria-label="Simulated night" className="mt-5">
        <h2>Simulated night</h2>
        <p className="text-ink-2 mt-1">
          No client of these networks is known: nothing has a lease there, nor a reservation.
        </p>
      </section>
    )
  return (
    <section aria-label="Simulated night" className="mt-5">
      <h2>Simulated night</h2>
      <p className="mt-1">
        {n.affected === 0 ? (
          `None of ${plural(n.clients, 'known client')} loses service.`
        ) : (
          <>
            <b>{plural(n.affected, 'client')}</b> of {n.clients} without service for {span(n.mean)} on average, the
            longest for {span(n.longest)}: {Math.round(n.minutes)} client-minutes in all.
          </>
        )}
        {n.nameMinutes > 0 && ` Without name servers: ${Math.round(n.nameMinutes)} client-minutes.`}
        {n.stranded > 0 && (
          <b className="text-cinnabar-ink"> {plural(n.stranded, 'client')} never has service again.</b>
        )}
      </p>
      {n.affected > 0 && (
        <svg
          viewBox={`0 0 ${wide} ${tall + 20}`}
          className="w-full h-auto mt-2"
          role="img"
          aria-label={`Clients without service, at most ${most} at a time`}
        >
          <path d={`M0,${tall} L${points.join(' L')} L${wide},${tall} Z`} fill="var(--sand-t)" stroke="var(--sand)" />
          <path d={`M0,${tall} H${wide}`} stroke="var(--seam)" />
          <g fontSize="12" fill="var(--ink-2)">
            <text x="0" y={tall + 15}>
              {clock(n.begin, plan.zone)}
            </text>
            <text x={wide} y={tall + 15} textAnchor="end">
              {clock(n.end, plan.zone)}
            </text>
            <text x={wide} y="12" textAnchor="end">
              at most {most}
            </text>
          </g>
        </svg>
      )}
      {hurt.length > 0 && (
        <Table columns={anyMisled ? [...columns, misled] : columns} className="mt-2">
          <tbody>
            {(all ? hurt : hurt.slice(0, few)).map((f) => (
              <tr key={f.mac + f.network}>
                <td className="list-cell">
                  {f.name}
                  {f.asleep && <span className="text-ink-2">, asleep</span>}
                </td>
                <td className="list-cell mono">{f.was}</td>
                <td className="list-cell">
                  {f.likely && <span className="text-ink-2">likely </span>}
                  <span className="mono">{f.will}</span>
                </td>
                <Lack of={{ seconds: f.seconds, from: f.lost, until: f.regained }} when={when} />
                <Lack of={f.nameServers} when={when} />
                {anyMisled && <Lack of={f.ownName} when={when} />}
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      {hurt.length > few && (
        <SmallButton
          onClick={() => {
            setAll(!all)
          }}
        >
          {all ? `The ${few} worst off` : `All ${hurt.length}`}
        </SmallButton>
      )}
    </section>
  )
}

/** What a client is without: how long, from when, until when. */
function Lack({ of, when }: { of: Fate['ownName']; when: Intl.DateTimeFormat }) {
  if (of.seconds === 0 || !of.from) return <td className="list-cell" />
  const from = new Date(of.from)
  return (
    <td className="list-cell whitespace-normal">
      <b className="font-semibold">{of.until ? span(of.seconds) : 'never again'}</b>
      <span className={`block text-[12.5px] ${of.until ? 'text-ink-2' : 'text-cinnabar-ink'}`}>
        {of.until ? when.formatRange(from, new Date(of.until)) : `from ${when.format(from)} on`}
      </span>
    </td>
  )
}

export const clock = (at: string, zone?: string) =>
  new Date(at).toLocaleString('en-GB', {
    weekday: 'short',
    day: 'numeric',
    month: 'short',
    hour: '2-digit',
    minute: '2-digit',
    timeZone: zone || undefined,
  })
