import { useEffect, useRef, useState } from 'react'
import { api, call, type Schemas } from '../api/client'
import { useOrderAct } from '../api/queries'
import { announce } from '../parts/announce'
import { Marked } from '../parts/Marked'
import { When } from '../parts/When'
import { useNow } from '../parts/useNow'
import { Window } from '../parts/Window'
import { Runbook } from './Runbook'

const marks: Record<Schemas['JournalEntry']['state'], [string, string]> = {
  running: ['▸', 'text-ink'],
  done: ['✓', 'text-malachite-ink'],
  failed: ['✗', 'text-cinnabar-ink'],
  skipped: ['–', 'text-sand-ink'],
  unknown: ['?', 'text-sand-ink'],
}

/** What a push has done so far, line by line, as it happens, and what it could not prove. */
export function PushJournal({ push, order }: { push: Schemas['PushView']; order: number }) {
  // What it comes to while somebody watches is told; what it came to before stands on the page.
  const told = useRef(push.title)
  useEffect(() => {
    if (told.current !== push.title) announce(push.title)
    told.current = push.title
  }, [push.title])
  return (
    <section aria-label="Push" className="mb-6 max-w-[720px]">
      <div className="flex items-baseline gap-3 flex-wrap">
        <h2 className="!text-ink !text-[20px]">{push.title}</h2>
        <span className="text-ink-2">
          by {push.by}, <When at={push.at} />
        </span>
      </div>
      {push.problem && (
        <div role="alert" className="border-l-3 border-cinnabar bg-cinnabar-t text-cinnabar-ink px-3 py-2 mt-2">
          <Marked text={push.problem} />
          {push.state === 'failed' && <div className="mt-1">The draft is open again.</div>}
        </div>
      )}
      {(push.stops || push.stopped) && <UnderWay push={push} order={order} />}
      {push.silent.length > 0 && <Silent push={push} order={order} />}
      {push.hand.length > 0 && <Runbook push={push} order={order} />}
      {push.unverified.length > 0 && <Unverified list={push.unverified} order={order} />}
      <ol className="mt-2 bg-sheet border border-seam">
        {push.journal.map((j, i) => {
          const [glyph, colour] = marks[j.state]
          return (
            <li
              key={i}
              className={
                'grid grid-cols-[24px_minmax(72px,auto)_1fr] gap-x-2 px-3 py-1 border-b border-seam-2 ' +
                'last:border-b-0'
              }
            >
              <span className={`${colour} font-bold`} title={j.state}>
                {glyph}
              </span>
              <span className="mono text-ink-2">{j.device}</span>
              <span>
                <span className="sr-only">{j.state}: </span>
                <Marked text={j.says} />
              </span>
            </li>
          )
        })}
        {push.journal.length === 0 && <li className="px-3 py-1 text-ink-2">Waiting for its turn</li>}
      </ol>
    </section>
  )
}

/** How far a push is, when devices would return by themselves, and the way to stop it. */
function UnderWay({ push, order }: { push: Schemas['PushView']; order: number }) {
  const { act, problem, busy } = useOrderAct(order)
  const [asking, setAsking] = useState(false)
  const now = useNow(1000)
  const stop = async () => {
    setAsking(false)
    await act(() => call(api.POST('/api/orders/{order}/stop-push', { params: { path: { order } } })))
  }
  const done = push.journal.length
  const returns = push.returnsAt ? Math.round((Date.parse(push.returnsAt) - now) / 1000) : 0
  return (
    <div className="mt-2">
      {push.lines > 0 && (
        <>
          <progress className="block w-full h-1.5 accent-malachite" max={push.lines} value={Math.min(done, push.lines)}>
            {done} of {push.lines}
          </progress>
          <p className="text-[12.5px] text-ink-2 mt-1">
            {Math.min(done, push.lines)} of about {push.lines} lines
            {push.left > 0 && `; about ${push.left} s left`}
            {returns > 0 && `; unless they are confirmed, the devices undo the change by themselves in ${returns} s`}.
          </p>
        </>
      )}
      {push.state === 'byhand' && (
        <p className="text-ink-2 mt-1">
          Nothing else is touched before these lines are ticked. You can leave this page; the push waits.
        </p>
      )}
      {push.stopped ? (
        <p className="text-sand-ink mt-1">Told to stop by {push.stopped}.</p>
      ) : (
        <button className="btn mt-1.5" disabled={busy} onClick={() => setAsking(true)}>
          Stop the push
        </button>
      )}
      {problem && (
        <div role="alert" className="text-cinnabar-ink mt-1">
          {problem}
        </div>
      )}
      <Window
        title="Stop the push?"
        says={
          'Every device is put back to what it held before, those that have confirmed too. What was done by ' +
          'hand is listed to be put back by hand.'
        }
        open={asking}
        onClose={() => setAsking(false)}
      >
        <div className="flex gap-2 justify-end mt-4">
          <button className="btn" onClick={() => setAsking(false)}>
            Let it go on
          </button>
          <button className="btn btn-next" onClick={() => void stop()}>
            Stop and put back
          </button>
        </div>
      </Window>
    </div>
  )
}

/** Devices that do not say what became of them, and the way to stop waiting. */
function Silent({ push, order }: { push: Schemas['PushView']; order: number }) {
  const { act, problem, busy } = useOrderAct(order)
  const [asking, setAsking] = useState(false)
  const names = push.silent.join(', ')
  const end = async () => {
    setAsking(false)
    await act(() => call(api.POST('/api/orders/{order}/end-push', { params: { path: { order } } })))
  }
  return (
    <div role="status" className="border-l-3 border-sand bg-sand-t text-sand-ink px-3 py-2 mt-2">
      <b>{names} does not answer</b>, so nobody knows whether it holds the old configuration or the new one. Lithos
      keeps asking; until it answers nothing else is pushed to this site.
      <div className="mt-2">
        <button className="btn" disabled={busy} onClick={() => setAsking(true)}>
          Stop waiting
        </button>
      </div>
      {problem && (
        <div role="alert" className="text-cinnabar-ink mt-1">
          {problem}
        </div>
      )}
      <Window
        title="Stop waiting for the device?"
        says={
          `The push ends as failed. Look at ${names} yourself afterwards: it may hold the old configuration or ` +
          'the new one.'
        }
        open={asking}
        onClose={() => setAsking(false)}
      >
        <div className="flex gap-2 justify-end mt-4">
          <button className="btn" onClick={() => setAsking(false)}>
            Keep waiting
          </button>
          <button className="btn btn-next" onClick={() => void end()}>
            Stop waiting
          </button>
        </div>
      </Window>
    </div>
  )
}

/** What was landed without proof, and who has seen to it. */
function Unverified({ list, order }: { list: Schemas['Unverified'][]; order: number }) {
  const { act, problem, busy } = useOrderAct(order)
  const verify = async (seq: number) => {
    await act(() => call(api.POST('/api/orders/{order}/verify', { params: { path: { order } }, body: { seq } })))
  }
  return (
    <section aria-label="Not verified" className="border-l-3 border-sand bg-sand-t px-3 py-2 mt-2">
      <h2>Not verified by Lithos</h2>
      <ul>
        {list.map((u) => (
          <li key={u.seq} className="flex items-baseline gap-3 py-1.5">
            <span className="grow">
              <b>{u.name}</b>: {u.why}.
            </span>
            {u.at ? (
              <span className="text-ink-2 whitespace-nowrap">
                <span className="text-malachite-ink">✓</span> by hand, {u.by}, <When at={u.at} />
              </span>
            ) : (
              <button
                className="btn shrink-0"
                disabled={busy}
                aria-label={`${u.name} is verified by hand`}
                onClick={() => void verify(u.seq)}
              >
                Verified by hand
              </button>
            )}
          </li>
        ))}
      </ul>
      {problem && (
        <div role="alert" className="text-cinnabar-ink">
          {problem}
        </div>
      )}
    </section>
  )
}
