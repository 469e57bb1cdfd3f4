import { useQueryClient } from '@tanstack/react-query'
import { useCallback, useState } from 'react'
import { Link, useLocation, useNavigate } from 'react-router'
import { api, call, Problem, type Schemas } from '../api/client'
import { useFlip, useOrder, useOrderAct, useOrderAction, useSession } from '../api/queries'
import { DraftFindings } from '../orders/DraftFindings'
import { announce } from '../parts/announce'
import { When } from '../parts/When'
import { Window } from '../parts/Window'
import { siteAt } from '../site/lastSite'
import { useCurrentOrder } from './currentOrder'
import { useOthersAt } from './presence'
import { useKeys } from './useKeys'
import { plural } from '../parts/plural'

/** The open work order, on every page: what is drafted, what blocks, the next step. */
export function Tray() {
  const { head: current, take } = useCurrentOrder()
  const leave = useCallback(() => take(undefined), [take])
  // On an order's page the tray and its keys are of that order, whichever is worked on elsewhere.
  const shown = Number(/^\/orders\/(\d+)$/.exec(useLocation().pathname)?.[1]) || undefined
  const own = useOrder(shown).data?.head
  const head = shown ? own : current
  if (!head) return null
  const mine = head.id === current?.id
  if (head.state === 'landed' || head.state === 'dropped')
    return mine ? <EndedTray key={head.id} head={head} leave={leave} /> : null
  return <OpenTray key={head.id} head={head} leave={mine ? leave : undefined} />
}

/** What has become of the work order this browser had open: nobody is left to wonder where the draft is. */
function EndedTray({ head, leave }: { head: Schemas['Head']; leave: () => void }) {
  const { act, problem, busy } = useOrderAct(head.id)
  const takeUp = async () => {
    await act(() =>
      call(
        api.POST('/api/orders/{order}/take-up', {
          params: { path: { order: head.id } },
          body: { version: head.version },
        }),
      ),
    )
  }
  return (
    <footer
      aria-label="Ended work order"
      className="bg-basalt text-[#dfe7e3] flex flex-wrap items-center gap-x-4 gap-y-1.5 px-4 py-2 min-h-[56px]"
    >
      <Link to={`/orders/${head.id}`} className="text-lichen font-[650] hover:underline">
        {head.name}
      </Link>
      <span role="status">
        {head.title} {head.state === 'landed' ? 'has landed' : `was dropped by ${head.closedBy}`}: sites are shown as
        they stand.
      </span>
      {problem && (
        <span role="alert" className="text-[#ff9c86]">
          {problem}
        </span>
      )}
      <span className="ml-auto flex gap-2">
        {head.state === 'dropped' && (
          <button className="btn btn-dark" disabled={busy} onClick={() => void takeUp()}>
            Take it up again
          </button>
        )}
        <button className="btn btn-dark" title="It stays in Work orders" onClick={leave}>
          Put away
        </button>
      </span>
    </footer>
  )
}

/** The outcome of a rehearsal in a sentence. */
function rehearsed({ report }: Schemas['Rehearsed']): string {
  const { clients, moving } = report
  const told = moving ? `${plural(moving, 'is', 'are')} told something else` : 'none is told anything else'
  return `Rehearsed with ${plural(clients, 'known client')}: ${told}`
}

/** What the draft brings in, with the fixes, over whatever page is shown. */
function Listed({ head, open, onClose }: { head: Schemas['Head']; open: boolean; onClose: () => void }) {
  const order = useOrder(open ? head.id : undefined)
  const findings = order.data?.findings ?? []
  return (
    <Window title={`What ${head.name} brings in`} open={open} onClose={onClose} wide>
      {order.data && findings.length === 0 && <p className="mt-2">Nothing any more: every finding is fixed.</p>}
      <DraftFindings order={head.id} head={head} findings={findings} onGo={onClose} />
      <div className="flex justify-end mt-4">
        <button className="btn" onClick={onClose}>
          Close
        </button>
      </div>
    </Window>
  )
}

function OpenTray({ head, leave }: { head: Schemas['Head']; leave?: () => void }) {
  const client = useQueryClient()
  const navigate = useNavigate()
  const [problem, setProblem] = useState('')
  const rehearse = useOrderAction(head.id, '/api/orders/{order}/rehearse')
  const push = useOrderAction(head.id, '/api/orders/{order}/push')
  const rebase = useOrderAction(head.id, '/api/orders/{order}/rebase')
  const { mutateAsync: flip } = useFlip(head.id)
  const here = useLocation().pathname === `/orders/${head.id}`
  const open = head.state === 'open'
  const [asking, setAsking] = useState('')
  const [listing, setListing] = useState(false)
  const others = useOthersAt(head.id, useSession().data?.technician?.id)
  const { mutateAsync: leaveToStart, isPending: leaving } = useOrderAction(head.id, '/api/orders/{order}/wait')
  const busy = rehearse.isPending || push.isPending || rebase.isPending || leaving

  const run = async (action: () => Promise<unknown>) => {
    setProblem('')
    try {
      await action()
    } catch (e) {
      setProblem(e instanceof Problem ? e.message : String(e))
      void client.invalidateQueries({ queryKey: ['order', head.id] })
    }
  }
  const undo = (others = false) => {
    setAsking('')
    void run(async () => {
      try {
        await flip({ head, others })
        announce(`Took back: ${head.undo}`)
      } catch (e) {
        const theirs = e instanceof Problem && e.fields.others
        if (!theirs) throw e
        setAsking(theirs)
      }
    })
  }
  const redo = () =>
    void run(async () => {
      await flip({ head, redo: true })
      announce(`Did again: ${head.redo}`)
    })
  const canUndo = open && !!head.undo
  const canRedo = open && !!head.redo
  const canRehearse = open && head.edits > 0 && !head.behind && !busy
  const canPush = open && !head.refuses && !busy
  const canLeave = open && head.leavable && !busy
  const doRehearse = () =>
    run(async () => {
      await navigate(`/orders/${head.id}`)
      const view = await rehearse.mutateAsync(head)
      if (view.rehearsal) announce(rehearsed(view.rehearsal))
    })
  const doPush = () =>
    run(async () => {
      await navigate(`/orders/${head.id}`)
      await push.mutateAsync(head)
      announce(`The push of ${head.name} has begun`)
    })
  const doLeave = () =>
    run(async () => {
      await leaveToStart(head)
      announce('It starts by itself when the window opens')
    })
  const next = canPush ? 'push' : canLeave ? 'leave' : head.waits && head.rehearsed ? '' : 'rehearse'
  useKeys({
    'ctrl+z': () => canUndo && undo(),
    'ctrl+shift+z': () => canRedo && redo(),
    'ctrl+enter': () => void (canPush ? doPush() : canLeave ? doLeave() : canRehearse && !head.waits && doRehearse()),
  })
  const target = head.devices.length ? `Push to ${head.devices.join(' and ')}` : 'Push'
  return (
    <footer
      aria-label="Open work order"
      id="tray"
      data-place="tray"
      className="bg-basalt text-[#dfe7e3] flex flex-wrap items-center gap-x-4 gap-y-1.5 px-4 py-2 min-h-[56px]"
    >
      <Link to={`/orders/${head.id}`} className="text-lichen font-[650] hover:underline">
        {head.name}
      </Link>
      <Link
        to={here ? siteAt(head.site) : `/orders/${head.id}`}
        className="hover:underline min-w-0 max-w-[320px] truncate"
        title={head.title}
      >
        {head.title}
      </Link>
      <span className="text-on-basalt-2">
        {plural(head.edits, 'edit')}
        {head.devices.length > 0 && ` on ${head.devices.join(', ')}`}
      </span>
      {head.blocking > 0 && (
        <button className="text-[#ff9c86] hover:underline" onClick={() => setListing(true)}>
          <span aria-hidden>■ </span>
          {plural(head.blocking, 'finding')} {head.blocking === 1 ? 'blocks' : 'block'} the push
        </button>
      )}
      {head.warning > 0 && (
        <button className="text-[#e8c477] hover:underline" onClick={() => setListing(true)}>
          <span aria-hidden>▲ </span>
          {plural(head.warning, 'warning')}
        </button>
      )}
      {head.lost > 0 && (
        <Link to={`/orders/${head.id}`} className="text-[#e8c477] underline">
          {plural(head.lost, 'edit')} no longer {head.lost === 1 ? 'applies' : 'apply'}: decide
        </Link>
      )}
      {others && <span className="text-on-basalt-2">Also at it: {others}</span>}
      {open && head.waits && head.notBefore && (
        <span className="text-on-basalt-2">
          Starts by itself <When at={head.notBefore} />
        </span>
      )}
      {head.state === 'pushing' && <span className="text-lichen">Being pushed</span>}
      {problem && (
        <span role="alert" className="text-[#ff9c86] basis-full order-last">
          {problem}
        </span>
      )}
      <span className="ml-auto flex flex-wrap gap-2 justify-end">
        {open && (
          <>
            <button
              className="btn btn-dark"
              disabled={!canUndo}
              title={head.undo ? `Take back, of ${head.undoBy}: ${head.undo}` : 'Nothing to take back'}
              onClick={() => undo()}
            >
              Undo <kbd>Ctrl Z</kbd>
            </button>
            {head.redo && (
              <button className="btn btn-dark" title={`Do again: ${head.redo}`} onClick={redo}>
                Redo
              </button>
            )}
            {head.behind ? (
              <button
                className="btn btn-next"
                disabled={busy}
                title="Replay this draft on the site's newest revision"
                onClick={() => void run(() => rebase.mutateAsync(head))}
              >
                Move to the newest revision
              </button>
            ) : (
              <>
                <button
                  className={`btn ${next !== 'rehearse' || head.edits === 0 ? 'btn-dark' : 'btn-next'}`}
                  disabled={!canRehearse}
                  onClick={() => void doRehearse()}
                >
                  {rehearse.isPending ? 'Rehearsing…' : head.rehearsed ? 'Rehearse again' : 'Rehearse'}{' '}
                  {next === 'rehearse' && <kbd>Ctrl ⏎</kbd>}
                </button>
                {canLeave && (
                  <button className="btn btn-next" onClick={() => void doLeave()}>
                    Leave it to start by itself <kbd>Ctrl ⏎</kbd>
                  </button>
                )}
                <button
                  className={`btn ${canPush ? 'btn-next' : 'btn-dark'}`}
                  disabled={!canPush}
                  title={head.refuses}
                  onClick={() => void doPush()}
                >
                  {target} {canPush && <kbd>Ctrl ⏎</kbd>}
                </button>
              </>
            )}
          </>
        )}
        {leave && (
          <button className="btn btn-dark" title="Put this work order away; it stays in Work orders" onClick={leave}>
            Put away
          </button>
        )}
      </span>
      <Listed head={head} open={listing} onClose={() => setListing(false)} />
      <Window
        title="Take back another technician's step?"
        says={asking}
        open={asking !== ''}
        onClose={() => setAsking('')}
      >
        <div className="flex gap-2 justify-end mt-4">
          <button className="btn" onClick={() => setAsking('')}>
            Leave it
          </button>
          <button className="btn btn-next" onClick={() => undo(true)}>
            Undo it
          </button>
        </div>
      </Window>
    </footer>
  )
}
