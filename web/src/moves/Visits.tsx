import { Link } from 'react-router'
import { Copy } from '../parts/Copy'
import { When } from '../parts/When'
import { useTicks, type Move, type Plan, type Visit } from './useMove'

/** Devices that hold their address themselves: somebody goes there. */
export function VisitsList({ plan }: { plan: Plan }) {
  if (plan.visits.length === 0) return null
  return (
    <section aria-label="To be visited by hand" className="mt-5">
      <h2>To be visited by hand, {plan.visits.length}</h2>
      <ul className="mt-1">
        {plan.visits.map((v) => (
          <li key={v.seq} className="flex flex-wrap gap-x-2 py-1.5 border-b border-seam-2">
            <b>{v.name}</b>
            <span className="text-ink-2">{v.at}</span>
            {v.mac && <span className="mono text-ink-2">{v.mac}</span>}
            <span className="ml-auto mono">
              {v.was} → {v.will}
            </span>
          </li>
        ))}
      </ul>
    </section>
  )
}

/** The same of a move that was begun, with who has been there and where each is seen. */
export function Visits({ move, narrow }: { move: Move; narrow?: boolean }) {
  const { tick, waiting, problem } = useTicks(move.id)
  if (move.visits.length === 0) return null
  if (move.back) return <ToUndo move={move} tick={tick} problem={problem} narrow={narrow} />
  const ticked = (v: Visit) => waiting.find((t) => t.seq === v.seq)?.on ?? (!!v.doneAt || v.seen === 'new')
  const done = move.visits.filter(ticked).length
  return (
    <section aria-label="To be visited by hand" className={narrow ? '' : 'mt-5'}>
      <h2>
        To be visited by hand, {done} of {move.visits.length} done
      </h2>
      {waiting.length > 0 && (
        <p role="status" className="border-l-3 border-sand bg-sand-t text-sand-ink px-3 py-1.5 mt-1">
          {waiting.length === 1 ? '1 tick waits' : `${waiting.length} ticks wait`} for the connection, and is sent when
          it is back.
        </p>
      )}
      {problem && (
        <p role="alert" className="text-cinnabar-ink mt-1">
          {problem}
        </p>
      )}
      <ul className="mt-1">
        {move.visits.map((v) => (
          <li key={v.seq} className="py-1.5 border-b border-seam-2">
            <label className={`flex gap-2 items-baseline flex-wrap cursor-pointer ${narrow ? 'text-[17px] py-1' : ''}`}>
              <input
                type="checkbox"
                className={narrow ? 'size-6' : 'size-4'}
                checked={ticked(v)}
                disabled={move.state !== 'open' && move.state !== 'done'}
                onChange={(e) => {
                  tick(v.seq, e.target.checked)
                }}
              />
              <b>{v.name}</b>
              <span className="text-ink-2">{v.at}</span>
              <span className="ml-auto mono">
                {v.was} → {v.will}
              </span>
            </label>
            <div className="text-[12.5px] text-ink-2 pl-7">
              {v.doneAt && (
                <>
                  {v.doneBy}, <When at={v.doneAt} />.{' '}
                </>
              )}
              {v.seen === 'new' && <span className="text-malachite-ink">✓ seen at {v.will}. </span>}
              {v.seen === 'old' && <span className="text-cinnabar-ink">✗ still seen at {v.was}. </span>}
              {narrow && <ToType visit={v} values={v.type} />}
            </div>
          </li>
        ))}
      </ul>
      {!narrow && (
        <p className="text-[13px] text-ink-2 mt-2">
          They hold their address themselves.{' '}
          <a className="underline" href={`/api/moves/${move.id}/record`} download>
            Print this list
          </a>
          , or{' '}
          <Link className="underline" to={`/moves/${move.id}/visits`}>
            tick it on a phone
          </Link>
          ; Lithos ticks what it sees at the new address.
        </p>
      )}
    </section>
  )
}

/** What is typed at a device, with its MAC, by which somebody there knows it. */
function ToType({ visit, values }: { visit: Visit; values: Visit['type'] }) {
  return (
    <dl className="grid grid-cols-[auto_1fr] gap-x-3 mt-1 text-[15px]">
      {[...(visit.mac ? [{ label: 'MAC', value: visit.mac }] : []), ...values].map((t) => (
        <div key={t.label} className="contents">
          <dt>{t.label}</dt>
          <dd className="mono text-ink">
            <Copy text={t.value} />
          </dd>
        </div>
      ))}
    </dl>
  )
}

/** Of a move that was undone: the devices that have their new address, and are to have the old one again. */
function ToUndo({
  move,
  tick,
  problem,
  narrow,
}: {
  move: Move
  tick: (seq: number, on: boolean) => void
  problem?: string
  narrow?: boolean
}) {
  const left = move.visits.filter((v) => v.toUndo)
  return (
    <section aria-label="To be visited again" className={narrow ? '' : 'mt-5'}>
      <h2>To be visited again, {left.length}</h2>
      <p className="text-ink-2">
        {left.length === 0
          ? 'No device has an address of the move that somebody gave it.'
          : 'Somebody gave them their new address; the move was undone.'}
      </p>
      {problem && (
        <p role="alert" className="text-cinnabar-ink mt-1">
          {problem}
        </p>
      )}
      <ul className="mt-1">
        {left.map((v) => (
          <li key={v.seq} className="py-1.5 border-b border-seam-2">
            <label className="flex gap-2 items-baseline flex-wrap cursor-pointer">
              <input
                type="checkbox"
                className={narrow ? 'size-6' : 'size-4'}
                checked={false}
                onChange={() => {
                  tick(v.seq, false)
                }}
              />
              <b>{v.name}</b>
              <span className="text-ink-2">{v.at}</span>
              <span className="ml-auto mono">
                {v.will} → {v.was}
              </span>
            </label>
            {narrow && <ToType visit={v} values={v.undo} />}
          </li>
        ))}
      </ul>
    </section>
  )
}
