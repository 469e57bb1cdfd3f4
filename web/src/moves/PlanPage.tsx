import { useMemo, useState } from 'react'
import { Link, useNavigate, useParams, useSearchParams } from 'react-router'
import { api, call, problemOf, unplaced } from '../api/client'
import { usePageTitle } from '../frame/usePageTitle'
import { useCurrentOrder } from '../frame/currentOrder'
import { announce } from '../parts/announce'
import { Empty } from '../parts/Empty'
import { Choice, Field } from '../parts/Field'
import { plural } from '../parts/plural'
import { SmallButton } from '../parts/SmallButton'
import { useKept } from '../parts/useKept'
import { Carried } from './Carried'
import { Drawing, DrawingLegend } from './Drawing'
import { Night } from './Night'
import { MoveFindings, Phases } from './Phases'
import { Threads } from './Threads'
import { usePlan, useMovable, type Asked, type Movable } from './useMove'
import { VisitsList } from './Visits'
import { WhatMoves } from './WhatMoves'
import { Loading } from '../parts/Loading'

/** Plans a move: what moves where, and at once everything that comes of it. */
export function PlanPage() {
  const { code = '' } = useParams()
  const [params] = useSearchParams()
  const first = params.get('network') ?? ''
  const movable = useMovable(code)
  usePageTitle('Plan a move', movable.data?.name)
  if (movable.error)
    return <Empty title="No move can be planned" says={movable.error.message} to="/sites" first="Go to Sites" />
  if (!movable.data) return <Loading of="Plan a move" />
  if (movable.data.networks.length === 0)
    return (
      <Empty
        title="There is nothing to move yet"
        says="Add a network to the site first."
        to={`/sites/${code}`}
        first="Go to the site"
      />
    )
  return <Planner key={code + first} code={code} first={first} movable={movable.data} />
}

function Planner({ code, first, movable }: { code: string; first: string; movable: Movable }) {
  const navigate = useNavigate()
  const fresh = useMemo<Asked>(
    () => ({
      title: '',
      shifts: first ? [{ network: first }] : [],
      night: movable.night,
      lease: '30',
      way: 'phases',
    }),
    [first, movable.night],
  )
  const { value: asked, set: keep, isFresh, forget } = useKept(`lithos-plan-${code}-${first}`, fresh)
  const [round, setRound] = useState(0)
  const [busy, setBusy] = useState(false)
  const [problem, setProblem] = useState<ReturnType<typeof problemOf>>()
  const untagged = asked.untagged ?? []
  const something = asked.shifts.length + untagged.length > 0 || !!asked.block?.trim()
  const { take: takeOrder } = useCurrentOrder()
  const worked = usePlan(code, something ? asked : undefined)
  const plan = worked.plan
  const changes = !!plan && plan.rows.length > 0
  const wrong = problem ?? (worked.error ? problemOf(worked.error) : undefined)
  const set = (change: Partial<Asked>) => {
    setProblem(undefined)
    keep((was) => ({ ...was, ...change }))
  }
  const error = (field: string) => wrong?.fields[field]
  const typed = (network: string, from: string, to: string) => {
    set({ shifts: asked.shifts.map((s) => (s.network === network ? { ...s, to: given(s.to, from, to) } : s)) })
  }
  const begin = async () => {
    setBusy(true)
    try {
      const move = await call(api.POST('/api/sites/{site}/moves', { params: { path: { site: code } }, body: asked }))
      announce(`The move is begun: ${plural(move.phases.length, 'work order is', 'work orders are')} open`)
      forget()
      const first = move.phases[0]
      if (first) takeOrder(first.order)
      void navigate(`/moves/${move.id}`)
    } catch (e) {
      setProblem(problemOf(e))
      setBusy(false)
    }
  }
  const words = (name: 'title' | 'ticket', label: string, hint: string) => (
    <Field
      label={label}
      hint={hint}
      error={error(name)}
      value={asked[name] ?? ''}
      onChange={(e) => {
        set({ [name]: e.target.value })
      }}
    />
  )
  return (
    <div
      className={
        'min-h-full grid grid-cols-[minmax(0,1fr)_390px] ' + 'max-[1000px]:grid-cols-1 max-[1000px]:content-start'
      }
    >
      <section aria-label="The move" className="bg-sheet px-5 py-4 min-w-0">
        <p className="text-[12.5px] font-[650] text-ink-2">
          <Link className="hover:underline" to={`/sites/${code}`}>
            {movable.name}
          </Link>
        </p>
        <div className="flex flex-wrap items-baseline gap-x-4">
          <h1 className="my-0.5">Plan a move</h1>
          {!isFresh && (
            <SmallButton
              onClick={() => {
                setProblem(undefined)
                setRound(round + 1)
                forget()
              }}
            >
              Start over
            </SmallButton>
          )}
        </div>
        <p className="text-ink-2">
          Say what moves where. Until you begin the move it is kept on this machine alone; then each phase is a work
          order of its own.
        </p>
        <WhatMoves key={round} asked={asked} movable={movable} error={error} set={set} />
        {something && <How asked={asked} zone={movable.zone} error={error} set={set} />}
        {wrong && <Wrong problem={wrong} isOld={!!plan && !!worked.error} />}
        {plan && (
          <div aria-busy={worked.isOld} className={worked.error ? 'border-l-3 border-cinnabar pl-3' : ''}>
            <p role="status" className="text-[12.5px] text-ink-2 mt-2 h-[18px]">
              {worked.isOld && !worked.error && 'Working it out…'}
            </p>
            {plan.networks.map((n) => (
              <div key={n.id}>
                <h2 className="mt-4">{n.name}</h2>
                <Drawing
                  plan={plan}
                  network={n}
                  move={(from, offset) => {
                    typed(n.was ? n.id : (n.into ?? n.id), from, `+${offset}`)
                  }}
                />
              </div>
            ))}
            <DrawingLegend plan={plan} />
            <Threads plan={plan} typed={typed} error={(from) => error(`to.${from}`)} />
            {changes && (
              <>
                <Carried plan={plan} />
                <Night plan={plan} />
              </>
            )}
          </div>
        )}
      </section>
      <aside className="bg-slab border-l border-seam px-4.5 py-4 max-[1000px]:border-l-0 max-[1000px]:border-t">
        {changes ? (
          <>
            <Phases plan={plan} />
            <div className="grid gap-3 mt-3">
              {words('title', 'What the move is called', 'For example Handsets to VLAN 131')}
              {words('ticket', 'Ticket', 'May be left out')}
              <button className="btn btn-next" disabled={busy} onClick={() => void begin()}>
                {busy ? 'Opening its work orders…' : 'Begin the move'}
              </button>
            </div>
            <MoveFindings plan={plan} />
            <VisitsList plan={plan} />
          </>
        ) : (
          <p className="text-ink-2">
            {plan &&
              'Nothing would change yet: type a new subnet, VLAN id or gateway, or choose how numbers are kept. '}
            The phases of the move, and who is to be visited by hand, are shown here.
          </p>
        )}
      </aside>
    </div>
  )
}

/** In how many steps, and when. */
function How({
  asked,
  zone,
  error,
  set,
}: {
  asked: Asked
  zone: string
  error: (field: string) => string | undefined
  set: (change: Partial<Asked>) => void
}) {
  return (
    <div className="grid grid-cols-[repeat(auto-fill,minmax(210px,1fr))] gap-3 mt-3">
      <Choice
        label="How"
        value={asked.way ?? 'phases'}
        options={[
          { value: 'phases', label: 'in phases, leases shortened first' },
          { value: 'beside', label: 'in phases, the new beside the old first' },
          { value: 'night', label: 'in one night, a straight swap' },
        ]}
        onChange={(e) => {
          set({ way: e.target.value as Asked['way'] })
        }}
      />
      <Field
        label="The swap begins"
        hint={zone || 'UTC'}
        type="datetime-local"
        error={error('night')}
        value={asked.night ?? ''}
        onChange={(e) => {
          set({ night: e.target.value })
        }}
      />
      {asked.way !== 'night' && (
        <Field
          label="Leases before it, in minutes"
          hint="1 to 1440"
          mono
          inputMode="numeric"
          error={error('lease')}
          value={asked.lease ?? ''}
          onChange={(e) => {
            set({ lease: e.target.value })
          }}
        />
      )}
    </div>
  )
}

/** What is wrong and stands at no field, and that what is shown below is of before. */
function Wrong({ problem, isOld }: { problem: ReturnType<typeof problemOf>; isOld: boolean }) {
  const says = problem.fields.shifts ?? unplaced(problem)
  return (
    <div role="alert">
      {says && <p className="border-l-3 border-cinnabar bg-cinnabar-t text-cinnabar-ink px-3 py-2 mt-3">{says}</p>}
      {isOld && (
        <p className="text-cinnabar-ink mt-2">
          What is shown below is of before the last change: mend what is marked to work the move out again.
        </p>
      )}
    </div>
  )
}

/** The chosen addresses with one more, or one less where it is empty. */
function given(was: Asked['shifts'][number]['to'], from: string, to: string) {
  const rest = Object.entries(was ?? {}).filter(([a]) => a !== from)
  return Object.fromEntries(to ? [...rest, [from, to]] : rest)
}
