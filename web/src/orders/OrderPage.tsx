import { useEffect, useState } from 'react'
import { Link, useParams } from 'react-router'
import { api, call, type Schemas } from '../api/client'
import { useOrder, useOrderAct, useSession } from '../api/queries'
import { useCurrentOrder } from '../frame/currentOrder'
import { usePageTitle } from '../frame/usePageTitle'
import { Empty } from '../parts/Empty'
import { announce } from '../parts/announce'
import { When } from '../parts/When'
import { siteAt } from '../site/lastSite'
import { Changes, Others } from './Changes'
import { ChangeWindow } from './ChangeWindow'
import { DraftFindings } from './DraftFindings'
import { Lost } from './Lost'
import { Plans } from './Plans'
import { PushJournal } from './PushJournal'
import { Rehearsal } from './Rehearsal'
import { CopyOrder, Together } from './Together'
import { Loading } from '../parts/Loading'

/** A work order: what it does to which device in which order, and what comes of it. */
export function OrderPage() {
  const id = Number(useParams().id)
  const order = useOrder(id)
  const { id: current, take } = useCurrentOrder()
  const view = order.data?.head.id === id ? order.data : undefined
  const state = view?.head.state
  usePageTitle(view && `${view.head.name} ${view.head.title}`, view?.siteName)
  useEffect(() => {
    if (state === 'open' && current === undefined) take(id)
  }, [state, current, id, take])
  if (order.error)
    return (
      <Empty title="The work order cannot be shown" says={order.error.message} to="/orders" first="Go to Work orders" />
    )
  if (!view) return <Loading of={`Work order WO-${String(id).padStart(4, '0')}`} />
  const { head } = view
  return (
    <div
      className={
        'min-h-full grid grid-cols-[440px_minmax(0,1fr)] ' + 'max-[1000px]:grid-cols-1 max-[1000px]:content-start'
      }
    >
      <section aria-label="Steps" className="bg-sheet border-r border-seam px-4.5 py-4">
        <About view={view} />
        {current !== id && head.state === 'open' && (
          <button className="btn mt-2" onClick={() => take(id)}>
            Work on this order
          </button>
        )}
        <Plans plans={view.plans} gaps={view.gaps} landed={head.state === 'landed'} />
        <Edits view={view} />
        <Changes head={head} />
        <Others others={view.others} />
        <ChangeWindow head={head} zone={view.zone} />
      </section>
      <section aria-label="Outcome" className="px-5 py-4 min-w-0">
        {view.waves && <Together waves={view.waves} order={id} />}
        {view.push && <PushJournal push={view.push} order={id} />}
        {view.causes.length > 0 && head.state === 'open' && (
          <div className="mb-5 max-w-[640px]">
            <h2>What it may have failed for</h2>
            <p className="text-ink-2">Found of the device or the network at which the push failed.</p>
            <DraftFindings order={head.id} head={head} findings={view.causes} />
          </div>
        )}
        {view.lost.length > 0 && <Lost lost={view.lost} head={head} />}
        {view.findings.length > 0 && head.state === 'open' && (
          <div className="mb-5 max-w-[640px]">
            <h2>What this draft brings in</h2>
            <DraftFindings order={head.id} head={head} findings={view.findings} />
          </div>
        )}
        {view.rehearsal ? (
          <Rehearsal
            order={id}
            rehearsal={view.rehearsal}
            current={head.rehearsed || head.state !== 'open'}
            touched={view.networks}
          />
        ) : (
          <Empty
            inside
            title="Not rehearsed yet"
            says={
              'A rehearsal computes, with real packets, what every known client would be given, and walks the ' +
              'ladder of each network. Rehearse from the tray below; nothing is pushed that was not.'
            }
          />
        )}
      </section>
    </div>
  )
}

/** Whose order it is, for what, and what became of it. */
function About({ view }: { view: Schemas['OrderView'] }) {
  const { head } = view
  return (
    <>
      <p className="text-[12.5px] font-[650] text-ink-2">
        {head.name} ·{' '}
        <Link className="hover:underline" to={siteAt(head.site)}>
          {view.siteName}
        </Link>
      </p>
      <h1 className="my-0.5">{head.title}</h1>
      <p className="text-ink-2">
        {head.ticket && `Ticket ${head.ticket}. `}Opened <When at={view.openedAt} /> by {head.openedBy}.
        {head.state === 'landed' && <b className="text-malachite-ink"> Landed.</b>}
        {head.state === 'dropped' && <b> Dropped by {head.closedBy}.</b>}
      </p>
      {view.move && (
        <p>
          Part {view.move.phase} of {view.move.of} of the move{' '}
          <Link className="underline font-semibold" to={`/moves/${view.move.id}`}>
            {view.move.title}
          </Link>
          .
        </p>
      )}
    </>
  )
}

type Step = Schemas['StepView']

function Edits({ view }: { view: Schemas['OrderView'] }) {
  const { head } = view
  const { take } = useCurrentOrder()
  const { act, problem, busy } = useOrderAct(head.id)
  const move = async (path: '/api/orders/{order}/drop' | '/api/orders/{order}/take-up', then: () => void) => {
    const done = await act(() =>
      call(api.POST(path, { params: { path: { order: head.id } }, body: { version: head.version } })),
    )
    if (done) then()
  }
  const [asking, setAsking] = useState<Step>()
  const me = useSession().data?.technician?.fullName
  const back = async (step: Step, others = false) => {
    if (step.by !== me && !others) {
      setAsking(step)
      return
    }
    setAsking(undefined)
    const done = await act(() =>
      call(
        api.POST('/api/orders/{order}/steps/{seq}/undo', {
          params: { path: { order: head.id, seq: step.seq } },
          body: { version: head.version, others },
        }),
      ),
    )
    if (done) announce(`Undone: ${step.says}`)
  }
  return (
    <section className="mt-5">
      <h2>The draft</h2>
      {view.steps.length === 0 && (
        <p className="text-ink-2 mt-1">
          No edits yet.{' '}
          <Link className="underline" to={siteAt(head.site)}>
            Go to the site
          </Link>{' '}
          and drag over the ruler, or add a network.
        </p>
      )}
      <ol className="mt-1">
        {view.steps.map((s, i) => (
          <li key={i} className="py-1.5 border-b border-seam-2">
            <span className={s.undone ? 'line-through text-ink-3' : ''}>{s.says}</span>
            <div className="text-[12px] text-ink-3">
              {s.by}, <When at={s.at} />
              {s.undoneBy && `; undone by ${s.undoneBy}`}
              {head.state === 'open' && !s.undone && view.steps.filter((o) => !o.undone).length > 1 && (
                <>
                  {' · '}
                  <button
                    className="hover:underline text-ink-2"
                    disabled={busy}
                    aria-label={`Undo: ${s.says}`}
                    onClick={() => void back(s)}
                  >
                    Undo
                  </button>
                </>
              )}
            </div>
            {asking?.seq === s.seq && (
              <div role="alert" className="text-[12.5px] text-sand-ink mt-1 flex flex-wrap gap-2 items-center">
                It is {s.by}’s. Undo it all the same?
                <button className="btn !h-[26px]" onClick={() => void back(s, true)}>
                  Undo it
                </button>
                <button className="btn !h-[26px]" onClick={() => setAsking(undefined)}>
                  Leave it
                </button>
              </div>
            )}
          </li>
        ))}
      </ol>
      <p className="mt-3 text-[12.5px] print:hidden">
        <a className="underline" href={`/api/orders/${head.id}/record`} download>
          Its record, as Markdown
        </a>{' '}
        <a className="underline" href={`/api/orders/${head.id}/record?as=pdf`} download>
          as PDF
        </a>
      </p>
      <p className="mt-3 print:hidden">
        <CopyOrder view={view} />
      </p>
      {head.state === 'open' && (
        <button
          className="text-[12.5px] text-ink-2 hover:underline mt-1.5"
          disabled={busy}
          onClick={() => void move('/api/orders/{order}/drop', () => take(undefined))}
        >
          Drop this work order without pushing; it can be taken up again
        </button>
      )}
      {head.state === 'dropped' && (
        <button
          className="btn mt-3"
          disabled={busy}
          onClick={() => void move('/api/orders/{order}/take-up', () => take(head.id))}
        >
          Take it up again
        </button>
      )}
      {problem && (
        <div role="alert" className="text-cinnabar-ink mt-1">
          {problem}
        </div>
      )}
    </section>
  )
}
