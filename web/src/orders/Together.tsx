import { useState } from 'react'
import { Link } from 'react-router'
import { useQueryClient } from '@tanstack/react-query'
import { api, call, type Schemas } from '../api/client'
import { useOrderAct, useSites } from '../api/queries'
import { useCurrentOrder } from '../frame/currentOrder'
import { announce } from '../parts/announce'
import { Field } from '../parts/Field'
import { plural } from '../parts/plural'
import { When } from '../parts/When'
import { Window } from '../parts/Window'

type Waves = Schemas['Waves']
type View = Schemas['OrderView']

/** The orders of several sites that belong together: how each stands, and how they are pushed. */
export function Together({ waves, order }: { waves: Waves; order: number }) {
  const { act, problem, busy } = useOrderAct(order)
  const [asking, setAsking] = useState(false)
  const open = waves.sites.filter((s) => s.state === 'open')
  const ready = open.filter((s) => !s.refuses)
  const under = waves.state === 'running'
  const rehearse = () =>
    act(() => call(api.POST('/api/orders/{order}/rehearse-together', { params: { path: { order } } }))).then((done) => {
      if (done) announce('Every open site was rehearsed')
    })
  const stop = () => act(() => call(api.POST('/api/orders/{order}/stop-waves', { params: { path: { order } } })))
  return (
    <section aria-label="Sites" className="mb-6 max-w-[760px]">
      <div className="flex items-baseline gap-3 flex-wrap">
        <h2 className="!text-ink !text-[20px]">{plural(waves.sites.length, 'site')}</h2>
        <span className="text-ink-2" role="status">
          {stands(waves)}
          {waves.at && waves.by && (
            <>
              , by {waves.by}, <When at={waves.at} />
            </>
          )}
        </span>
      </div>
      {waves.problem && (
        <div role="alert" className="border-l-3 border-cinnabar bg-cinnabar-t text-cinnabar-ink px-3 py-2 mt-2">
          {waves.problem}
        </div>
      )}
      <ol className="mt-2 bg-sheet border border-seam">
        {waves.sites.map((s) => (
          <li
            key={s.order}
            className={
              'grid grid-cols-[84px_minmax(120px,220px)_1fr] gap-x-3 px-3 py-1.5 border-b border-seam-2 ' +
              'last:border-b-0 max-[700px]:grid-cols-[84px_1fr]'
            }
          >
            <Link
              className="hover:underline font-semibold"
              to={`/orders/${s.order}`}
              aria-current={s.order === order ? 'page' : undefined}
            >
              {s.name}
            </Link>
            <span className={s.order === order ? 'font-semibold' : ''}>{s.site}</span>
            <span className="text-ink-2 max-[700px]:col-span-2">
              {s.wave > 0 && `Wave ${s.wave}. `}
              {s.says}
            </span>
          </li>
        ))}
      </ol>
      <div className="flex gap-2 mt-2 flex-wrap">
        {open.length > 0 && !under && (
          <>
            <button className="btn" disabled={busy} onClick={() => void rehearse()}>
              {busy ? 'Rehearsing…' : `Rehearse all ${open.length}`}
            </button>
            <button className="btn" disabled={busy || ready.length === 0} onClick={() => setAsking(true)}>
              {ready.length < open.length
                ? `Push ${ready.length} of ${open.length} sites…`
                : `Push all ${open.length} sites…`}
            </button>
          </>
        )}
        {under && (
          <button className="btn" disabled={busy} onClick={() => void stop()}>
            Let no further wave begin
          </button>
        )}
      </div>
      {problem && (
        <div role="alert" className="text-cinnabar-ink mt-1">
          {problem}
        </div>
      )}
      {asking && <Start order={order} open={open} onClose={() => setAsking(false)} />}
    </section>
  )
}

function stands(w: Waves): string {
  const waves = Math.max(...w.sites.map((s) => s.wave))
  switch (w.state) {
    case 'running':
      return w.together ? 'being pushed, all or none' : `wave ${w.number} of ${waves} is being pushed`
    case 'landed': {
      const left = w.sites.filter((s) => s.state === 'open').length
      return left > 0 ? `landed, but for ${plural(left, 'site')}` : 'all have landed'
    }
    case 'stopped':
      return 'stopped'
    default:
      return 'not pushed yet'
  }
}

/** How the sites are pushed: in waves of growing size, or all or none; without those that are left out. */
function Start({ order, open, onClose }: { order: number; open: Waves['sites']; onClose: () => void }) {
  const { act, problem, busy } = useOrderAct(order)
  const [together, setTogether] = useState(false)
  const [without, setWithout] = useState(() => open.filter((s) => s.refuses).map((s) => s.order))
  const count = open.length - without.length
  const flip = (id: number) => setWithout((now) => (now.includes(id) ? now.filter((o) => o !== id) : [...now, id]))
  const [sizes, setSizes] = useState(count > 11 ? `1, 10, ${count - 11}` : count > 1 ? `1, ${count - 1}` : '1')
  const numbers = sizes.split(/[\s,]+/).filter((s) => s !== '')
  const wrong = numbers.length === 0 || numbers.some((s) => !/^[1-9]\d{0,3}$/.test(s))
  const start = async () => {
    const done = await act(() =>
      call(
        api.POST('/api/orders/{order}/waves', {
          params: { path: { order } },
          body: { together, sizes: together ? [] : numbers.map(Number), without },
        }),
      ),
    )
    if (done) {
      announce('The push has begun')
      onClose()
    }
  }
  return (
    <Window title={`Push ${plural(count, 'site')}`} open onClose={onClose}>
      <form
        className="mt-3"
        onSubmit={(e) => {
          e.preventDefault()
          void start()
        }}
      >
        <fieldset>
          <legend className="sr-only">How</legend>
          <label className="flex gap-2 items-start">
            <input type="radio" name="how" checked={!together} onChange={() => setTogether(false)} />
            <span>
              In waves
              <span className="block text-[12.5px] text-ink-2">
                Each site lands on its own. A site that returns stops the waves behind it.
              </span>
            </span>
          </label>
          {!together && (
            <div className="ml-6 mt-1.5 max-w-[300px]">
              <Field
                label="How many sites each wave takes, with commas"
                mono
                value={sizes}
                hint="The last number is repeated for what is left."
                error={wrong ? 'Type whole numbers, for example 1, 10' : undefined}
                onChange={(e) => setSizes(e.target.value)}
              />
            </div>
          )}
          <label className="flex gap-2 items-start mt-3">
            <input type="radio" name="how" checked={together} onChange={() => setTogether(true)} />
            <span>
              All or none
              <span className="block text-[12.5px] text-ink-2">
                No device is told to keep its change before every device of every site is ready. If one site returns,
                all do.
              </span>
            </span>
          </label>
        </fieldset>
        <fieldset className="mt-3 max-h-[220px] overflow-y-auto border-t border-seam pt-2">
          <legend className="font-[650]">Sites</legend>
          {open.map((s) => (
            <label key={s.order} className="flex gap-2 items-baseline py-1">
              <input
                type="checkbox"
                checked={!without.includes(s.order)}
                disabled={!!s.refuses}
                onChange={() => flip(s.order)}
              />
              <span>
                {s.site}
                {s.refuses && <span className="block text-[12.5px] text-sand-ink">Left out: {s.refuses}</span>}
              </span>
            </label>
          ))}
        </fieldset>
        {problem && (
          <div role="alert" className="text-cinnabar-ink mt-2">
            {problem}
          </div>
        )}
        <div className="flex gap-2 justify-end mt-4">
          <button type="button" className="btn" onClick={onClose}>
            Not now
          </button>
          <button className="btn btn-next" disabled={busy || count === 0 || (!together && wrong)}>
            Push
          </button>
        </div>
      </form>
    </Window>
  )
}

/** Opens the order at other sites, and says what found its place there. */
export function CopyOrder({ view }: { view: View }) {
  const [open, setOpen] = useState(false)
  if (view.steps.every((s) => s.undone)) return null
  return (
    <>
      <button className="text-[12.5px] text-ink-2 hover:underline" onClick={() => setOpen(true)}>
        Copy this order to other sites…
      </button>
      {open && <Choose view={view} onClose={() => setOpen(false)} />}
    </>
  )
}

function Choose({ view, onClose }: { view: View; onClose: () => void }) {
  const { take: takeOrder } = useCurrentOrder()
  const sites = useSites()
  const client = useQueryClient()
  const [chosen, setChosen] = useState<string[]>([])
  const [find, setFind] = useState('')
  const [copied, setCopied] = useState<Schemas['Copied'][]>()
  const [problem, setProblem] = useState('')
  const [busy, setBusy] = useState(false)
  const others = (sites.data ?? []).filter((s) => s.code !== view.head.site)
  const shown = others.filter((s) => `${s.name} ${s.customer}`.toLowerCase().includes(find.toLowerCase()))
  const flip = (code: string) =>
    setChosen((now) => (now.includes(code) ? now.filter((c) => c !== code) : [...now, code]))
  const copy = async () => {
    setBusy(true)
    setProblem('')
    try {
      const out = await call(
        api.POST('/api/orders/{order}/copy', {
          params: { path: { order: view.head.id } },
          body: { sites: chosen },
        }),
      )
      setCopied(out)
      const opened = out.filter((c) => c.order !== 0)
      if (opened.length === 1) takeOrder(opened[0]?.order) // of several, one is chosen from the list
      announce(`Copied to ${plural(out.filter((c) => c.order !== 0).length, 'site')}`)
      await client.invalidateQueries()
    } catch (e) {
      setProblem(e instanceof Error ? e.message : String(e))
    }
    setBusy(false)
  }
  return (
    <Window
      title={`Copy ${view.head.name} to other sites`}
      says={
        'Each edit finds its place by role and name: devices of the same kind, networks of the same name or ' +
        'VLAN, addresses with the same host number. What does not fit waits there for a decision.'
      }
      open
      onClose={onClose}
      filled={chosen.length > 0 && !copied}
      wide
    >
      {copied ? (
        <>
          <ul className="mt-3 border-t border-seam">
            {copied.map((c) => (
              <li key={c.site} className="py-1.5 border-b border-seam-2">
                <b>{others.find((s) => s.code === c.site)?.name ?? c.name}</b>:{' '}
                {c.order !== 0 ? (
                  <>
                    <Link className="underline" to={`/orders/${c.order}`} onClick={onClose}>
                      opened
                    </Link>
                    , {plural(c.edits, 'edit')} placed
                    {c.left > 0 && <span className="text-sand-ink">, {c.left} without a place: decide there</span>}
                    {c.hidden.map((h) => (
                      <HiddenOption key={h.code} of={h} order={c.order} />
                    ))}
                  </>
                ) : (
                  <span className="text-ink-2">not opened: {c.says}</span>
                )}
              </li>
            ))}
          </ul>
          <div className="flex justify-end mt-4">
            <button className="btn btn-next" onClick={onClose}>
              Close
            </button>
          </div>
        </>
      ) : (
        <form
          className="mt-3"
          onSubmit={(e) => {
            e.preventDefault()
            void copy()
          }}
        >
          <Field label="Find a site" value={find} onChange={(e) => setFind(e.target.value)} />
          <fieldset className="mt-2 max-h-[300px] overflow-y-auto border border-seam px-3 py-1.5">
            <legend className="sr-only">Sites</legend>
            {shown.map((s) => (
              <label key={s.code} className="flex gap-2 items-baseline py-1">
                <input type="checkbox" checked={chosen.includes(s.code)} onChange={() => flip(s.code)} />
                <span>
                  {s.name} <span className="text-ink-2">{s.customer}</span>
                </span>
              </label>
            ))}
            {shown.length === 0 && <p className="text-ink-2 py-1">No site is called that.</p>}
          </fieldset>
          {problem && (
            <div role="alert" className="text-cinnabar-ink mt-2">
              {problem}
            </div>
          )}
          <div className="flex gap-2 justify-end mt-4">
            <button type="button" className="btn" onClick={onClose}>
              Cancel
            </button>
            <button className="btn btn-next" disabled={busy || chosen.length === 0}>
              {busy ? 'Copying…' : `Copy to ${plural(chosen.length, 'site')}`}
            </button>
          </div>
        </form>
      )}
    </Window>
  )
}

/** An option that changes nothing at a site, because nearer levels set it: the way to set it there. */
function HiddenOption({ of: h, order }: { of: Schemas['HiddenThere']; order: number }) {
  const [state, setState] = useState('')
  const client = useQueryClient()
  const set = async () => {
    try {
      const view = await call(api.GET('/api/orders/{order}', { params: { path: { order } } }))
      await call(
        api.POST('/api/orders/{order}/edits', {
          params: { path: { order } },
          body: {
            version: view.head.version,
            look: {},
            entries: h.levels.map((l) => ({
              kind: 'option',
              id: String(h.code),
              in: l.in,
              fields: { value: h.value },
            })),
          },
        }),
      )
      setState('set there')
      await client.invalidateQueries({ queryKey: ['order', order] })
    } catch (e) {
      setState(e instanceof Error ? e.message : String(e))
    }
  }
  return (
    <span className="block text-[12.5px] text-sand-ink">
      {h.what} {h.value}: nothing changes there, because {h.levels.map((l) => l.says).join(', ')} set
      {h.levels.length === 1 ? 's' : ''} it.{' '}
      {state ? (
        <span role="status">{state}</span>
      ) : (
        <button type="button" className="underline" onClick={() => void set()}>
          Set it there instead
        </button>
      )}
    </span>
  )
}
