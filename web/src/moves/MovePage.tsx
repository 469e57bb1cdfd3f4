import { useState } from 'react'
import { Link, useParams } from 'react-router'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import { api, call, problemOf } from '../api/client'
import { usePageTitle } from '../frame/usePageTitle'
import { useCurrentOrder } from '../frame/currentOrder'
import { announce } from '../parts/announce'
import { Empty } from '../parts/Empty'
import { Loading } from '../parts/Loading'
import { When } from '../parts/When'
import { Window } from '../parts/Window'
import { Carried } from './Carried'
import { Drawing, DrawingLegend } from './Drawing'
import { Night } from './Night'
import { MoveFindings, Phases } from './Phases'
import { Stragglers } from './Stragglers'
import { useMove, type Move } from './useMove'
import { Visits } from './Visits'

const states: Record<Move['state'], string> = {
  open: 'under way',
  done: 'done',
  back: 'undone',
  dropped: 'dropped',
}

/** A move of networks that was begun: what it does, how far it is, who is to be visited and who did not follow. */
export function MovePage() {
  const id = Number(useParams().id)
  const { data: move, error } = useMove(id)
  usePageTitle(move?.title, move?.siteName)
  if (!move)
    return error ? (
      <Empty title="The move cannot be shown" says={error.message} to="/orders" first="Go to Work orders" />
    ) : (
      <Loading of="Move" />
    )
  const nights = move.phases.filter((p) => p.kind !== 'elsewhere').length
  return (
    <div
      className={
        'min-h-full grid grid-cols-[minmax(0,1fr)_390px] ' + 'max-[1000px]:grid-cols-1 max-[1000px]:content-start'
      }
    >
      <section aria-label="The move" className="bg-sheet px-5 py-4 min-w-0">
        <p className="text-[12.5px] font-[650] text-ink-2">
          <Link className="hover:underline" to={`/sites/${move.site}`}>
            {move.siteName}
          </Link>{' '}
          · a move in {nights === 1 ? 'one night' : `${nights} phases`}, {states[move.state]}
        </p>
        <h1 className="my-0.5">{move.title}</h1>
        <p className="text-ink-2">
          {move.says}. Begun <When at={move.at} /> by {move.by}.
        </p>
        {move.waits && <Waits move={move} />}
        <div className="flex flex-wrap gap-2 mt-2 print:hidden">
          {move.due && (
            <Link
              className="btn btn-next"
              to={move.due.do === 'visits' ? `/moves/${id}/visits` : `/orders/${move.due.order ?? 0}`}
            >
              {move.due.do === 'visits' ? move.due.says : `Go to ${move.due.says}`}
            </Link>
          )}
          <a className="btn" href={`/api/moves/${id}/record`} download>
            Record of the old numbers
          </a>
          {(move.state === 'open' || move.state === 'done') && <TakeBack move={move} />}
        </div>
        {move.networks.map((n) => (
          <div key={n.id}>
            {move.networks.length > 1 && <h2 className="mt-4">{n.name}</h2>}
            <Drawing plan={move} network={n} />
          </div>
        ))}
        <DrawingLegend plan={move} />
        {move.after.swapped && <Stragglers move={move} />}
        <Carried plan={move} />
        <Night plan={move} />
      </section>
      <aside className="bg-slab border-l border-seam px-4.5 py-4 max-[1000px]:border-l-0 max-[1000px]:border-t">
        <Phases plan={move} next={move.next} />
        <Visits move={move} />
        {move.state === 'open' && <MoveFindings plan={move} />}
      </aside>
    </div>
  )
}

function TakeBack({ move }: { move: Move }) {
  const [asking, setAsking] = useState(false)
  const [problem, setProblem] = useState<string>()
  const [busy, setBusy] = useState(false)
  const client = useQueryClient()
  const { take: takeOrder } = useCurrentOrder()
  const landed = move.phases.filter((p) => p.stage === 'landed').length
  const back = move.phases.some((p) => p.kind === 'back' && p.stage !== 'dropped')
  if (back) return null
  const take = async () => {
    setBusy(true)
    try {
      const after = await call(api.POST('/api/moves/{move}/back', { params: { path: { move: move.id } } }))
      client.setQueryData(['move', move.id], after)
      const opened = after.phases.find((p) => p.kind === 'back' && p.stage !== 'dropped')
      if (opened) takeOrder(opened.order)
      announce(landed ? 'An order that takes the move back is open' : 'The move was dropped')
      setAsking(false)
    } catch (e) {
      setProblem(problemOf(e).message)
    }
    setBusy(false)
  }
  return (
    <>
      <button
        className="btn"
        onClick={() => {
          setAsking(true)
        }}
      >
        Undo the move…
      </button>
      <Window
        open={asking}
        title={landed ? 'Undo the move?' : 'Drop the move?'}
        onClose={() => {
          setAsking(false)
        }}
      >
        <p>
          {landed
            ? 'What has not landed is dropped. A work order is opened that makes the site what it was: ' +
              'rehearse and push it.'
            : 'Nothing of it has landed. Its work orders are dropped.'}
        </p>
        {problem && (
          <p role="alert" className="text-cinnabar-ink mt-2">
            {problem}
          </p>
        )}
        <button className="btn btn-next mt-4" disabled={busy} onClick={() => void take()}>
          {landed ? 'Open the order' : 'Drop'}
        </button>
      </Window>
    </>
  )
}

/** Why no phase is drafted any more, and the way to go on. */
function Waits({ move }: { move: Move }) {
  const client = useQueryClient()
  const over = useMutation({
    mutationFn: () => call(api.POST('/api/moves/{move}/take-over', { params: { path: { move: move.id } } })),
    onSuccess: (now) => {
      client.setQueryData(['move', move.id], now)
      announce('The move goes on in your name')
    },
  })
  return (
    <div role="alert" className="border-l-3 border-sand bg-sand-t text-sand-ink px-3 py-2 mt-2">
      {move.waits}{' '}
      <button className="underline" disabled={over.isPending} onClick={() => over.mutate()}>
        Take the move over
      </button>
      {over.error && <p className="text-cinnabar-ink">{problemOf(over.error).message}</p>}
    </div>
  )
}
