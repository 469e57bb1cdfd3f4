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
import { TrayBar } from './TrayBar'
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
  const { pathname } = useLocation()
  if (!head) return null
  const mine = head.id === current?.id
  const ended = head.state === 'landed' || head.state === 'dropped'
  // A site's own page says itself that it is shown as it stands, and names the order that is for another site.
  const site = /^\/sites\/([^/]+)$/.exec(pathname)?.[1]
  if (site && (ended || site !== head.site)) return null
  if (ended) return mine ? <EndedTray key={head.id} head={head} leave={leave} /> : null
  return <OpenTray key={head.id} head={head} leave={mine ? leave : undefined} />
}

/** What has become of a work order that is open no more. */
export const endedSays = ({ title, state, closedBy }: Schemas['Head']) =>
  `${title} ${state === 'landed' ? 'has landed' : `was dropped by ${closedBy}`}: sites are shown as they stand.`

/** Takes a dropped order up again. */
export function TakeUp({ head }: { head: Schemas['Head'] }) {
  const { act, problem, busy } = useOrderAct(head.id)
  const takeUp = () =>
    act(() =>
      call(
        api.POST('/api/orders/{order}/take-up', {
          params: { path: { order: head.id } },
          body: { version: head.version },
        }),
      ),
    )
  if (head.state !== 'dropped') return null
  return (
    <>
      {problem && (
        <span role="alert" className="text-[#ff9c86] max-w-[300px] truncate" title={problem}>
          {problem}
        </span>
      )}
      <button className="btn btn-dark" disabled={busy} onClick={() => void takeUp()}>
        Take it up again
      </button>
    </>
  )
}

/** What has become of the work order this browser had open: nobody is left to wonder where the draft is. */
function EndedTray({ head, leave }: { head: Schemas['Head']; leave: () => void }) {
  return (
    <TrayBar
      label="Ended work order"
      buttons={
        <>
          <TakeUp head={head} />
          <button className="btn btn-dark" title="It stays in Work orders" onClick={leave}>
            Close
          </button>
        </>
      }
    >
      <Link to={`/orders/${head.id}`} className="text-lichen font-[650] hover:underline">
        {head.name}
      </Link>
      <span role="status" className="truncate" title={endedSays(head)}>
        {endedSays(head)}
      </span>
    </TrayBar>
  )
}

/** The outcome of a rehearsal in a sentence. */
function rehearsed({ report }: Schemas['Rehearsed']): string {
  const { clients, moving } = report
  const told = moving ? `${moving} affected` : 'none affected'
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

/** What can be done with an open order, and what is going on. */
function useActs(head: Schemas['Head']) {
  const client = useQueryClient()
  const navigate = useNavigate()
  const [problem, setProblem] = useState('')
  const [asking, setAsking] = useState('')
  const rehearse = useOrderAction(head.id, '/api/orders/{order}/rehearse')
  const push = useOrderAction(head.id, '/api/orders/{order}/push')
  const rebase = useOrderAction(head.id, '/api/orders/{order}/rebase')
  const wait = useOrderAction(head.id, '/api/orders/{order}/wait')
  const { mutateAsync: flip } = useFlip(head.id)
  const busy = rehearse.isPending || push.isPending || rebase.isPending || wait.isPending
  const open = head.state === 'open'

  const run = async (action: () => Promise<unknown>) => {
    setProblem('')
    try {
      await action()
    } catch (e) {
      setProblem(e instanceof Problem ? e.message : String(e))
      void client.invalidateQueries({ queryKey: ['order', head.id] })
    }
  }
  const there = () => navigate(`/orders/${head.id}`)
  return {
    problem,
    asking,
    setAsking,
    busy,
    rehearsing: rehearse.isPending,
    can: {
      undo: open && !!head.undo,
      redo: open && !!head.redo,
      rehearse: open && head.edits > 0 && !head.behind && !busy,
      push: open && !head.refuses && !busy,
      wait: open && head.leavable && !busy,
    },
    undo: (others = false) => {
      setAsking('')
      void run(async () => {
        try {
          await flip({ head, others })
          announce(`Undone: ${head.undo}`)
        } catch (e) {
          const theirs = e instanceof Problem && e.fields.others
          if (!theirs) throw e
          setAsking(theirs)
        }
      })
    },
    redo: () =>
      void run(async () => {
        await flip({ head, redo: true })
        announce(`Did again: ${head.redo}`)
      }),
    rebase: () => void run(() => rebase.mutateAsync(head)),
    rehearse: () =>
      void run(async () => {
        await there()
        const view = await rehearse.mutateAsync(head)
        if (view.rehearsal) announce(rehearsed(view.rehearsal))
      }),
    push: () =>
      void run(async () => {
        await there()
        await push.mutateAsync(head)
        announce(`The push of ${head.name} has begun`)
      }),
    wait: () =>
      void run(async () => {
        await wait.mutateAsync(head)
        announce('It starts automatically when the window opens')
      }),
  }
}

type Acts = ReturnType<typeof useActs>

/** What is most likely wanted next: the button that stands out, which Ctrl and Enter press. */
function nextOf(head: Schemas['Head'], can: Acts['can']): 'push' | 'wait' | 'rehearse' | undefined {
  if (can.push) return 'push'
  if (can.wait) return 'wait'
  return head.waits && head.rehearsed ? undefined : 'rehearse'
}

function OpenTray({ head, leave }: { head: Schemas['Head']; leave?: () => void }) {
  const [listing, setListing] = useState(false)
  const acts = useActs(head)
  const { can } = acts
  const next = nextOf(head, can)
  useKeys({
    'ctrl+z': () => {
      if (can.undo) acts.undo()
    },
    'ctrl+shift+z': () => {
      if (can.redo) acts.redo()
    },
    'ctrl+enter': () => {
      if (next && (next !== 'rehearse' || (can.rehearse && !head.waits))) acts[next]()
    },
  })
  return (
    <>
      <TrayBar
        label="Open work order"
        problem={acts.problem}
        buttons={
          <>
            {head.state === 'open' && <Buttons head={head} acts={acts} next={next} />}
            {leave && (
              <button
                className="btn btn-dark max-[480px]:hidden"
                title="Close this work order here; it stays in Work orders"
                onClick={leave}
              >
                Close
              </button>
            )}
          </>
        }
      >
        <Facts head={head} onList={() => setListing(true)} />
      </TrayBar>
      <Listed head={head} open={listing} onClose={() => setListing(false)} />
      <Window
        title="Undo another technician's step?"
        says={acts.asking}
        open={acts.asking !== ''}
        onClose={() => acts.setAsking('')}
      >
        <div className="flex gap-2 justify-end mt-4">
          <button className="btn" onClick={() => acts.setAsking('')}>
            Leave it
          </button>
          <button className="btn btn-next" onClick={() => acts.undo(true)}>
            Undo it
          </button>
        </div>
      </Window>
    </>
  )
}

/** What an order is, how large, and what is wrong with it. */
function Facts({ head, onList }: { head: Schemas['Head']; onList: () => void }) {
  const here = useLocation().pathname === `/orders/${head.id}`
  const others = useOthersAt(head.id, useSession().data?.technician?.id)
  const devices = head.devices.length > 0 ? ` on ${head.devices.join(', ')}` : ''
  return (
    <>
      <Link to={`/orders/${head.id}`} className="text-lichen font-[650] hover:underline">
        {head.name}
      </Link>
      <Link
        to={here ? siteAt(head.site) : `/orders/${head.id}`}
        className="hover:underline min-w-0 max-w-[320px] truncate max-[480px]:hidden"
        title={head.title}
      >
        {head.title}
      </Link>
      <span className="text-on-basalt-2 truncate" title={devices}>
        {plural(head.edits, 'edit')}
        <span className="max-[900px]:hidden">{devices}</span>
      </span>
      {head.blocking > 0 && (
        <button className="text-[#ff9c86] hover:underline" onClick={onList}>
          <span aria-hidden>■ </span>
          {plural(head.blocking, 'finding')}
          <span className="max-[641px]:hidden"> {head.blocking === 1 ? 'blocks' : 'block'} the push</span>
        </button>
      )}
      {head.warning > 0 && (
        <button className="text-[#e8c477] hover:underline" onClick={onList}>
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
      {head.state === 'open' && head.waits && head.notBefore && (
        <span className="text-on-basalt-2">
          Starts automatically <When at={head.notBefore} />
        </span>
      )}
      {head.state === 'pushing' && <span className="text-lichen">Being pushed</span>}
    </>
  )
}

/** The buttons of an open order. */
function Buttons({ head, acts, next }: { head: Schemas['Head']; acts: Acts; next: ReturnType<typeof nextOf> }) {
  const { can } = acts
  return (
    <>
      <button
        className="btn btn-dark"
        disabled={!can.undo}
        title={head.undo ? `Undo, of ${head.undoBy}: ${head.undo}` : 'Nothing to undo'}
        onClick={() => acts.undo()}
      >
        Undo <kbd className="max-[900px]:hidden">Ctrl Z</kbd>
      </button>
      {head.redo && (
        <button className="btn btn-dark max-[641px]:hidden" title={`Do again: ${head.redo}`} onClick={acts.redo}>
          Redo
        </button>
      )}
      {head.behind ? (
        <button
          className="btn btn-next"
          disabled={acts.busy}
          title="Replay this draft on the site's newest revision"
          onClick={acts.rebase}
        >
          Move to the newest revision
        </button>
      ) : (
        <Onward head={head} acts={acts} next={next} />
      )}
    </>
  )
}

/** The devices of a push: by name while that fits the line. */
const toDevices = (names: string[]) => (names.length > 2 ? plural(names.length, 'device') : names.join(' and '))

/** Rehearse, wait, push. */
function Onward({ head, acts, next }: { head: Schemas['Head']; acts: Acts; next: ReturnType<typeof nextOf> }) {
  const { can } = acts
  const target = head.devices.length ? ` to ${toDevices(head.devices)}` : ''
  return (
    <>
      <button
        className={`btn ${next !== 'rehearse' || head.edits === 0 ? 'btn-dark' : 'btn-next'}`}
        disabled={!can.rehearse}
        onClick={acts.rehearse}
      >
        {acts.rehearsing ? 'Rehearsing…' : head.rehearsed ? 'Rehearse again' : 'Rehearse'}{' '}
        {next === 'rehearse' && <kbd className="max-[900px]:hidden">Ctrl ⏎</kbd>}
      </button>
      {can.wait && (
        <button className="btn btn-next" onClick={acts.wait}>
          Leave it to start automatically <kbd className="max-[900px]:hidden">Ctrl ⏎</kbd>
        </button>
      )}
      <button
        className={`btn ${can.push ? 'btn-next' : 'btn-dark'}`}
        disabled={!can.push}
        title={head.refuses}
        onClick={acts.push}
      >
        <span>
          Push<span className="max-[1000px]:hidden">{target}</span>
        </span>
        {can.push && <kbd className="max-[900px]:hidden">Ctrl ⏎</kbd>}
      </button>
    </>
  )
}
