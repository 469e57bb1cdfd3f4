import { useState } from 'react'
import { Link, useNavigate, useParams, useSearchParams } from 'react-router'
import { api, call, problemOf, type Schemas } from '../api/client'
import { usePageTitle } from '../frame/usePageTitle'
import { announce } from '../parts/announce'
import { Empty } from '../parts/Empty'
import { Choice, Field } from '../parts/Field'
import { plural } from '../parts/plural'
import { Carried } from './Carried'
import { Drawing, DrawingLegend } from './Drawing'
import { Night } from './Night'
import { MoveFindings, Phases } from './Phases'
import { ShiftForm, type Entry } from './ShiftForm'
import { Threads } from './Threads'
import { usePlan, useMovable, type Request } from './useMove'
import { VisitsList } from './Visits'

type Movable = Schemas['Movable']

/** Plans a move: what moves where, and at once everything that comes of it. */
export function PlanPage() {
  const { code = '' } = useParams()
  const movable = useMovable(code)
  usePageTitle('Plan a move', movable.data?.name)
  if (movable.error)
    return <Empty title="No move can be planned" says={movable.error.message} to="/sites" first="Go to Sites" />
  if (!movable.data) return null
  if (movable.data.networks.length === 0)
    return (
      <Empty
        title="There is nothing to move yet"
        says="Add a network to the site first."
        to={`/sites/${code}`}
        first="Go to the site"
      />
    )
  return <Planner code={code} movable={movable.data} />
}

type Head = {
  title: string
  ticket: string
  night: string
  lease: string
  way: string
  block: string
  port: string
  untagged: string
}

/** A moment as a field of date and time has it, in the site's zone. */
const local = (at: string) => at.slice(0, 16)

function Planner({ code, movable }: { code: string; movable: Movable }) {
  const [params] = useSearchParams()
  const first = params.get('network')
  const navigate = useNavigate()
  const [entries, setEntries] = useState<Entry[]>(first ? [{ network: first }] : [])
  const [head, setHead] = useState<Head>({
    title: '',
    ticket: '',
    night: local(movable.night),
    lease: '30',
    way: 'phases',
    block: '',
    port: '',
    untagged: '',
  })
  const [more, setMore] = useState(false)
  const [busy, setBusy] = useState(false)
  const [problem, setProblem] = useState<ReturnType<typeof problemOf>>()
  const asked = requestOf(entries, head, movable)
  const plan = usePlan(code, asked)
  const error = problem ?? (plan.error ? problemOf(plan.error) : undefined)
  const shown = plan.error ? undefined : plan.data
  const set = (change: Partial<Head>) => {
    setProblem(undefined)
    setHead((was) => ({ ...was, ...change }))
  }
  const field = (name: keyof Head, label: string, hint?: string, type = 'text') => (
    <Field
      label={label}
      hint={hint}
      type={type}
      mono={name === 'block' || name === 'untagged'}
      value={head[name]}
      error={error?.fields[name]}
      onChange={(e) => {
        set({ [name]: e.target.value })
      }}
    />
  )
  const typed = (network: string, from: string, to: string) => {
    setEntries((was) =>
      was.map((e) => (e.network === network ? { ...e, to: { ...e.to, [from]: to || undefined } } : e)),
    )
  }
  const begin = async () => {
    if (!asked) return
    setBusy(true)
    try {
      const move = await call(api.POST('/api/sites/{site}/moves', { params: { path: { site: code } }, body: asked }))
      announce(`The move is begun: ${plural(move.phases.length, 'work order is', 'work orders are')} open`)
      void navigate(`/moves/${move.id}`)
    } catch (e) {
      setProblem(problemOf(e))
      setBusy(false)
    }
  }
  const rest = movable.networks.filter((n) => !entries.some((e) => e.network === n.id))
  return (
    <div className="min-h-full grid grid-cols-[minmax(0,1fr)_390px] max-[1000px]:grid-cols-1 max-[1000px]:content-start">
      <section aria-label="The move" className="bg-sheet px-5 py-4 min-w-0">
        <p className="text-[12.5px] font-[650] text-ink-2">
          <Link className="hover:underline" to={`/sites/${code}`}>
            {movable.name}
          </Link>
        </p>
        <h1 className="my-0.5">Plan a move</h1>
        <p className="text-ink-2">
          Say what moves where. Nothing is kept until you begin the move; then each phase is a work order of its own.
        </p>
        {entries.map((e) => (
          <ShiftForm
            key={e.network}
            entry={e}
            movable={movable}
            errors={error?.fields ?? {}}
            at={entries.indexOf(e)}
            onChange={(next) => {
              setProblem(undefined)
              setEntries((was) => was.map((o) => (o.network === e.network ? next : o)))
            }}
            onRemove={() => {
              setEntries((was) => was.filter((o) => o.network !== e.network))
            }}
          />
        ))}
        <div className="flex flex-wrap gap-2 items-end mt-3">
          {rest.length > 0 && (
            <div className="w-[280px]">
              <Choice
                label={entries.length === 0 ? 'A network that moves' : 'Another network that moves'}
                value=""
                options={[
                  { value: '', label: 'Choose a network…' },
                  ...rest.map((n) => ({
                    value: n.id,
                    label: n.vlan > 0 ? `${n.name}, ${n.prefix}, VLAN ${n.vlan}` : `${n.name}, ${n.prefix}`,
                  })),
                ]}
                onChange={(e) => {
                  setEntries((was) => [...was, { network: e.target.value }])
                }}
              />
            </div>
          )}
          <button
            className="underline pb-1.5"
            aria-expanded={more}
            onClick={() => {
              setMore(!more)
            }}
          >
            {more ? 'Less' : 'The whole site to another block, or a port’s untagged VLAN'}
          </button>
          {movable.standard && entries.length > 0 && (
            <button
              className="btn"
              onClick={() => {
                setEntries((was) => was.map((e) => ({ ...e, rule: 'standard' })))
              }}
            >
              All of them onto {movable.standard}
            </button>
          )}
          {rest.length > 1 && (
            <button
              className="btn"
              onClick={() => {
                setEntries((was) => [...was, ...rest.map((n) => ({ network: n.id }))])
              }}
            >
              All {movable.networks.length} networks
            </button>
          )}
        </div>
        {more && (
          <div className="grid grid-cols-[repeat(auto-fill,minmax(210px,1fr))] gap-3 mt-3">
            {field('block', 'The site to another block', `It has ${movable.block}; empty where it keeps that`)}
            <Choice
              label="Untagged VLAN of a port"
              hint="Both ends of its cable change together"
              value={head.port}
              options={[
                { value: '', label: 'stays' },
                ...movable.ports.map((p) => ({
                  value: p.id,
                  label: p.untagged ? `${p.name}, untagged ${p.untagged}` : p.name,
                })),
              ]}
              onChange={(e) => {
                set({ port: e.target.value })
              }}
            />
            {head.port && field('untagged', 'Its untagged VLAN from then on', '1 to 4094')}
          </div>
        )}
        {asked && (
          <div className="grid grid-cols-[repeat(auto-fill,minmax(210px,1fr))] gap-3 mt-3">
            <Choice
              label="How"
              value={head.way}
              options={[
                { value: 'phases', label: 'in phases, leases shortened first' },
                { value: 'beside', label: 'in phases, the new beside the old first' },
                { value: 'night', label: 'in one night, a straight swap' },
              ]}
              onChange={(e) => {
                set({ way: e.target.value })
              }}
            />
            {field('night', 'The swap begins', movable.zone || 'UTC', 'datetime-local')}
            {head.way !== 'night' && field('lease', 'Leases before it, in minutes', '1 to 1440')}
          </div>
        )}
        {error && Object.keys(error.fields).length === 0 && (
          <p role="alert" className="text-cinnabar-ink mt-2">
            {error.message}
          </p>
        )}
        {error?.fields.shifts && (
          <p role="alert" className="border-l-3 border-cinnabar bg-cinnabar-t text-cinnabar-ink px-3 py-2 mt-3">
            {error.fields.shifts}
          </p>
        )}
        {shown && asked && (
          <div aria-busy={plan.isPlaceholderData}>
            <p role="status" className="text-[12.5px] text-ink-2 mt-2 h-[18px]">
              {plan.isPlaceholderData && 'Working it out…'}
            </p>
            {shown.networks.map((n) => (
              <div key={n.id}>
                <h2 className="mt-4">{n.name}</h2>
                <Drawing
                  plan={shown}
                  network={n}
                  move={(from, offset) => {
                    typed(n.was ? n.id : (n.into ?? n.id), from, `+${offset}`)
                  }}
                />
              </div>
            ))}
            <DrawingLegend plan={shown} />
            <Threads plan={shown} typed={typed} />
            <Carried plan={shown} />
            <Night plan={shown} />
          </div>
        )}
      </section>
      <aside className="bg-slab border-l border-seam px-4.5 py-4 max-[1000px]:border-l-0 max-[1000px]:border-t">
        {shown && asked ? (
          <>
            <Phases plan={shown} />
            <div className="grid gap-3 mt-3">
              {field('title', 'What the move is called', 'For example Handsets to VLAN 131')}
              {field('ticket', 'Ticket', 'May be left out')}
              <button className="btn btn-next" disabled={busy} onClick={() => void begin()}>
                {busy ? 'Opening its work orders…' : 'Begin the move'}
              </button>
            </div>
            <MoveFindings plan={shown} />
            <VisitsList plan={shown} />
          </>
        ) : (
          <p className="text-ink-2">The phases of the move, and who is to be visited by hand, are shown here.</p>
        )}
      </aside>
    </div>
  )
}

/** What is asked for, as far as something is. */
function requestOf(entries: Entry[], head: Head, movable: Movable): Request | undefined {
  const untagged = Number(head.untagged)
  const retag = head.port && untagged > 0 ? [{ interface: head.port, vlan: untagged }] : []
  const block = /^[\d.]+\/\d+$/.test(head.block.trim()) ? head.block.trim() : ''
  if (entries.length === 0 && retag.length === 0 && !block) return undefined
  return {
    title: head.title.trim(),
    ticket: head.ticket.trim(),
    night: inZone(head.night, movable),
    lease: Math.min(Math.max(Math.round(Number(head.lease) || 30), 1), 1440) * 60,
    oneNight: head.way === 'night',
    beside: head.way === 'beside',
    shifts: entries.map(({ to, pieces, ...e }) => ({
      ...e,
      vlan: e.vlan ?? 0,
      to: Object.fromEntries(Object.entries(to ?? {}).filter((t): t is [string, string] => !!t[1])),
      pieces: pieces ?? [],
    })),
    untagged: retag,
    ...(block ? { block } : {}),
  }
}

/** The offset of the site's zone, as the proposed night has it. */
function inZone(local: string, movable: Movable): string {
  const offset = /([+-]\d\d:\d\d|Z)$/.exec(movable.night)?.[1] ?? 'Z'
  return `${local || movable.night.slice(0, 16)}:00${offset}`
}
