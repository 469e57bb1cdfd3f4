import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, call, problemOf, type Schemas } from '../api/client'
import { useDraftStep } from '../api/queries'
import { useCurrentOrder } from '../frame/currentOrder'
import { Alert } from '../parts/Alert'
import { Choice } from '../parts/Field'
import { FileLines } from '../parts/FileLines'
import { announce } from '../parts/announce'
import { Mark } from '../parts/Kind'
import { plural } from '../parts/plural'
import { Table, type Column } from '../parts/Table'
import { When } from '../parts/When'

type Row = Schemas['DriftRow']
type What = 'adopt' | 'back'

const settled = (d: Row) => d.settled || d.putBack

/** What a device holds, beside a draft where one is open; reading is the id of an earlier one, 0 for now. */
const useDrift = (code: string, device: string, order: Schemas['Head'] | undefined, reading: number) =>
  useQuery({
    queryKey: ['history', code, 'drift', device, order?.id, order?.version, reading],
    queryFn: () =>
      call(
        api.GET('/api/sites/{site}/devices/{device}/drift', {
          params: { path: { site: code, device }, query: { order: order?.id, configuration: reading || undefined } },
        }),
      ),
    placeholderData: (was) => was,
  })

/** What a device holds, beside what it was last given and what is wanted; each difference is adopted or put back. */
export function Drift({
  code,
  device,
  zone,
  onDecided,
}: {
  code: string
  device: string
  zone: string
  onDecided: () => Promise<unknown>
}) {
  const { head, take } = useCurrentOrder()
  const client = useQueryClient()
  const order = head && head.site === code && head.state === 'open' ? head : undefined
  const [reading, setReading] = useState(0)
  const [chosen, setChosen] = useState<Record<string, What>>({})
  const [most, setMost] = useState(shownAtFirst)
  const drift = useDrift(code, device, order, reading)
  const read = useMutation({
    mutationFn: () => call(api.POST('/api/sites/{site}/read', { params: { path: { site: code } } })),
    onSuccess: async () => {
      announce('The devices were read')
      await client.invalidateQueries({ queryKey: ['history', code] })
    },
  })
  const open = (drift.data?.differences ?? []).filter((d) => !settled(d))
  const decide = useDraftStep(
    order,
    (version) => {
      const of = (what: What) => open.filter((d) => chosen[d.id] === what).map((d) => d.id)
      return call(
        api.POST('/api/sites/{site}/devices/{device}/drift', {
          params: { path: { site: code, device } },
          body: {
            order: order?.id,
            version,
            configuration: reading || undefined,
            adopt: of('adopt'),
            putBack: of('back'),
          },
        }),
      )
    },
    (v) => {
      setChosen({})
      take(v.order)
      announce('Decided; it is in the draft')
      return onDecided()
    },
  )
  if (drift.error && !drift.data) return <Alert>{problemOf(drift.error).message}</Alert>
  const v = drift.data
  if (!v) return null
  const decided = open.filter((d) => chosen[d.id]).length
  const all = (what: What) => {
    setChosen(Object.fromEntries(open.map((d) => [d.id, what === 'adopt' && d.why ? 'back' : what])))
  }
  const old = reading !== 0
  const shown = v.differences.slice(0, most)
  const written = shown.filter((d) => d.writing.length > 0)
  return (
    <section aria-label={`What ${v.name} holds`}>
      <div className="flex flex-wrap items-baseline gap-x-3">
        <h1>
          <span className="mono !text-[20px]">{v.name}</span> {titled(v, old)}
        </h1>
        <span className="text-ink-2 text-[13px]">
          <LastRead of={v} old={old} zone={zone} />
        </span>
        <button className="btn !h-[26px] ml-auto" disabled={read.isPending} onClick={() => read.mutate()}>
          {read.isPending ? 'Reading' : 'Read it now'}
        </button>
      </div>
      <p className="text-ink-2 mt-1.5 max-w-[92ch]">{explained(v, old)}</p>
      <Alert className="mt-2">{decide.error && problemOf(decide.error).message}</Alert>
      <Alert className="mt-2">{read.error && problemOf(read.error).message}</Alert>
      <Refused of={decide.data?.refused ?? []} />
      {v.differences.length > 0 && (
        <div className="overflow-x-auto">
          <Table columns={columns} className="min-[641px]:min-w-[760px] mt-3">
            <tbody>
              {shown.map((d) => (
                <tr key={d.id}>
                  <td className="list-cell !whitespace-normal" title={d.what}>
                    <Mark severity={d.beside ? 'notes' : 'warns'} /> {d.what}
                  </td>
                  <td className="list-cell mono text-ink-2 !whitespace-normal [overflow-wrap:anywhere]">{d.pushed}</td>
                  <td className="list-cell mono bg-sand-t text-sand-ink !whitespace-normal [overflow-wrap:anywhere]">
                    {d.running}
                  </td>
                  <td className="list-cell mono !whitespace-normal [overflow-wrap:anywhere]">{d.wanted}</td>
                  <td className="list-cell !whitespace-normal !py-1.5">
                    <Deciding
                      of={d}
                      order={order?.name}
                      old={old}
                      chosen={chosen[d.id]}
                      onChoose={(what) =>
                        setChosen((was) => ({ ...was, [d.id]: was[d.id] === what ? undefined : what }) as typeof was)
                      }
                    />
                  </td>
                </tr>
              ))}
              <tr>
                <td className="list-cell">Everything else</td>
                <td className="list-cell" />
                <td className="list-cell mono">{plural(v.same, 'part')}</td>
                <td className="list-cell mono">the same</td>
                <td className="list-cell" />
              </tr>
            </tbody>
          </Table>
        </div>
      )}
      <More of={v.differences.length} shown={most} onMore={() => setMost(most + 1000)} />
      {open.length > 0 && (
        <Decide
          said={`${decided} of ${open.length} decided`}
          into={order?.name}
          all={all}
          old={old}
          busy={decided === 0 || decide.isPending}
          onDecide={() => decide.mutate()}
        />
      )}
      {!old && <CutOff cuts={v.cuts} name={v.name} />}
      <Consequences rows={v.differences} old={old} cut={v.cuts.length > 0} />
      {written.map((d) => (
        <details key={d.id} className="mt-3">
          <summary className="cursor-pointer text-ink-2 text-[12.5px] font-[650]">
            {d.what}, as the device writes it
          </summary>
          <FileLines lines={d.writing} label={`${d.what}, as the device writes it`} />
        </details>
      ))}
      {v.configurations.length > 1 && (
        <Earlier
          configurations={v.configurations}
          zone={zone}
          chosen={reading}
          onChoose={(id) => {
            setReading(id)
            setChosen({})
          }}
        />
      )}
    </section>
  )
}

const shownAtFirst = 100

const columns: Column[] = [
  ['What', '26%'],
  ['Last pushed'],
  ['The device holds'],
  ['Lithos wants'],
  ['What to do', '176px'],
]

const moment = (at: string, zone: string) =>
  new Date(at).toLocaleString('en-GB', { timeZone: zone, dateStyle: 'medium', timeStyle: 'short' })

/** What the page is about, in two sentences. */
function titled(v: Schemas['Drift'], old: boolean): string {
  if (old) return 'as it was'
  return v.differences.length > 0 ? 'holds something else' : 'holds what it was given'
}

function explained(v: Schemas['Drift'], old: boolean): string {
  if (old)
    return (
      'What it held then, beside what the site says. Adopted into a draft, it is given that again by the next ' +
      'push.'
    )
  if (v.differences.length === 0) return `Each of its ${plural(v.same, 'part')} is as the site has it.`
  if (v.differences.every((d) => d.beside))
    return 'It holds things that Lithos did not put there. A push leaves them as they are until somebody decides.'
  return (
    'Somebody changed it, and not through Lithos. Until each difference is adopted or put back, a push to it ' +
    'is refused, because it would undo work nobody told Lithos of.'
  )
}

/** The two ways to decide about a difference, or what was decided. */
function Deciding({
  of,
  order,
  old,
  chosen,
  onChoose,
}: {
  of: Row
  order?: string
  old: boolean
  chosen?: What
  onChoose: (what: What) => void
}) {
  if (of.settled) return <>{order ? `adopted in ${order}` : 'the same'}</>
  if (of.putBack) return <>{order} puts it back</>
  const choice = (what: What, label: string) => (
    <button
      className={`btn !h-[28px] ${chosen === what ? '!bg-basalt !text-on-basalt' : ''}`}
      aria-pressed={chosen === what}
      aria-label={`${label}: ${of.what}`}
      onClick={() => onChoose(what)}
    >
      {label}
    </button>
  )
  return (
    <span className="flex flex-wrap gap-1.5">
      {!of.why && choice('adopt', 'Adopt')}
      {!old && choice('back', of.beside ? 'Remove' : 'Put back')}
      {of.why && <span className="text-[12px] text-ink-2">{of.why}</span>}
    </span>
  )
}

const spelled = (cuts: Schemas['DriftCut'][], word: string) =>
  cuts.map((c) => `${c.network} has ${word} ${c.rung}`).join('; ')

/** The networks that a device cuts off as it is set. */
function CutOff({ cuts, name }: { cuts: Schemas['DriftCut'][]; name: string }) {
  if (cuts.length === 0) return null
  return (
    <section aria-label="Who is cut off" className="mt-5">
      <h2>Who is cut off</h2>
      <p className="text-ink-2">As {name} is set, and not if it held what is wanted.</p>
      <ul className="mt-1">
        {cuts.map((c) => (
          <li key={c.network} className="py-1.5 border-b border-seam-2">
            <Mark severity="warns" /> <b className="font-semibold">{c.network}</b> has no {c.rung}. {c.says}.
          </li>
        ))}
      </ul>
    </section>
  )
}

/** What becomes of clients where a difference is adopted. */
function adopted(d: Row, old: boolean, cut: boolean): string {
  if (old) return ''
  if (d.mends.length > 0) return ` It stays so: ${spelled(d.mends, 'no')}.`
  return cut ? ' Nothing changes for clients.' : ' Clients keep what the device tells them now.'
}

/** What becomes of clients where it alone is put back, and no known client is told anything else. */
function unmoved(d: Row, cut: boolean): string {
  if (d.mends.length > 0) return ''
  return cut
    ? 'by itself nothing changes for clients, while the other differences stand.'
    : 'no known client is told anything else.'
}

/** What adopting or putting back does to the site and to clients. */
function Consequences({ rows, old, cut }: { rows: Row[]; old: boolean; cut: boolean }) {
  const told = rows.filter((d) => !d.settled && (d.moves.length > 0 || d.mends.length > 0 || d.adopts))
  if (told.length === 0) return null
  return (
    <section aria-label="What each does" className="mt-5">
      <h2>What each does</h2>
      <ul className="mt-1">
        {told.map((d) => (
          <li key={d.id} className="py-2 border-b border-seam-2">
            <b className="font-semibold">{d.what}</b>
            {d.adopts && (
              <p>
                <span className="text-ink-2">{old ? 'Brought back' : 'Adopted'}:</span> {d.adopts}.
                {adopted(d, old, cut)}
              </p>
            )}
            {!old && (d.mends.length > 0 || d.moves.length === 0) && (
              <p>
                <span className="text-ink-2">Put back:</span>{' '}
                {d.mends.length > 0 ? `${spelled(d.mends, 'a')} again.` : unmoved(d, cut)}
              </p>
            )}
            {!old && d.moves.length > 0 && (
              <>
                <p className="text-ink-2">{d.mends.length > 0 ? 'Its clients:' : 'Put back:'}</p>
                <ul>
                  {d.moves.map((m, n) => (
                    <li key={n} className="flex flex-wrap gap-x-3 pl-3">
                      <span className="min-w-[120px]">{m.client}</span>
                      <span className="mono">{m.now || 'nothing'}</span> →{' '}
                      <span className="mono">{m.after || 'nothing'}</span>
                      <span className="text-ink-2">{m.when}</span>
                    </li>
                  ))}
                  {d.more > 0 && <li className="pl-3 text-ink-2">and {plural(d.more, 'more client')}</li>}
                </ul>
              </>
            )}
          </li>
        ))}
      </ul>
    </section>
  )
}

/** What could not be adopted or put back, and why. */
function Refused({ of }: { of: { id: string; why: string }[] }) {
  if (of.length === 0) return null
  return (
    <div role="alert" className="mt-2 text-sand-ink">
      {of.map((r) => (
        <p key={r.id}>{r.why}</p>
      ))}
    </div>
  )
}

/** When a device was read, and since when it holds something else. */
function LastRead({ of: v, old, zone }: { of: Schemas['Drift']; old: boolean; zone: string }) {
  return (
    <>
      {v.problem && <span className="text-cinnabar-ink">not read: {v.problem}</span>}
      {!v.problem && v.readAt && (
        <>
          read <When at={v.readAt} zone={zone} />
        </>
      )}
      {v.since && !old && (
        <>
          , first seen <When at={v.since} zone={zone} />
        </>
      )}
    </>
  )
}

/** The bar under the differences: how many are decided, and what becomes of those. */
function Decide(props: {
  said: string
  into?: string
  all: (what: What) => void
  old: boolean
  busy: boolean
  onDecide: () => void
}) {
  const { said, into, all, old, busy, onDecide } = props
  return (
    <div
      className={
        'sticky bottom-0 bg-sheet border-t border-seam -mx-5 px-5 max-[480px]:-mx-2.5 max-[480px]:px-2.5 ' +
        'py-2.5 mt-3 flex flex-wrap items-center gap-2'
      }
    >
      <span className="text-ink-2 mr-auto" role="status">
        {said}
      </span>
      <button className="btn" onClick={() => all('adopt')}>
        Adopt all
      </button>
      {!old && (
        <button className="btn" onClick={() => all('back')}>
          Put all back
        </button>
      )}
      <button className="btn btn-next" disabled={busy} onClick={onDecide}>
        {into ? `Add these to ${into}` : 'Open a work order with these'}
      </button>
    </div>
  )
}

/** Chooses what is shown: what a device holds now, or what it held before. */
function Earlier(props: {
  configurations: Schemas['Drift']['configurations']
  zone: string
  chosen: number
  onChoose: (id: number) => void
}) {
  const { configurations, zone, chosen, onChoose } = props
  return (
    <div className="mt-6 max-w-[420px]">
      <Choice
        label="What it held"
        options={configurations.map((k, n) => ({
          value: String(n === 0 ? 0 : k.id),
          label: n === 0 ? 'now, as it was last read' : `until ${moment(k.last, zone)}, from ${moment(k.first, zone)}`,
        }))}
        value={String(chosen)}
        onChange={(e) => onChoose(Number(e.target.value))}
      />
    </div>
  )
}

function More({ of, shown, onMore }: { of: number; shown: number; onMore: () => void }) {
  if (of <= shown) return null
  return (
    <button className="btn !h-[28px] mt-2" onClick={onMore}>
      Show more of {of}
    </button>
  )
}
