import { useQuery } from '@tanstack/react-query'
import { api, call, problemOf, type Schemas, type View } from '../api/client'
import { useDraftStep } from '../api/queries'
import { Alert } from '../parts/Alert'
import { announce } from '../parts/announce'
import { SmallButton } from '../parts/SmallButton'
import { Window } from '../parts/Window'
import { plural } from '../parts/plural'

/** Reads what the devices of a site hold into its draft, and lists what could not be read. */
export function TakeOver({ view, onClose }: { view: View; onClose: () => void }) {
  const { order } = view
  const reached = view.devices.filter((d) => d.reached).map((d) => d.name)
  const take = useDraftStep(
    order,
    (version) =>
      call(
        api.POST('/api/orders/{order}/take-over', {
          params: { path: { order: order?.id ?? 0 } },
          body: { version },
        }),
      ),
    (v) => announce(`${plural(v.steps, 'part was', 'parts were')} read into the draft`),
  )
  const v = take.data
  return (
    <Window title="Read the devices into this site" open onClose={onClose} wide>
      {!v && (
        <p className="mt-2">
          What {reached.join(', ')} {reached.length === 1 ? 'holds' : 'hold'} and this site does not have is added to
          the draft: interfaces, networks, pools, exclusions, reservations, options, resolvers and zones. What the site
          has stays as it is, and nothing is changed on a device.
        </p>
      )}
      <Alert className="mt-2">{take.error && problemOf(take.error).message}</Alert>
      {v && (
        <div role="status" className="mt-2">
          <p>
            {v.steps === 0
              ? `${v.read.join(', ')}: the site has all of it already.`
              : `${plural(v.steps, 'part', 'parts')} of ${v.read.join(', ')} ${v.steps === 1 ? 'is' : 'are'} ` +
                'in the draft, as one step.'}
          </p>
          {v.leases > 0 && (
            <p className="text-ink-2 mt-1">
              {plural(v.leases, 'lease or machine', 'leases and machines')} they tell of
              {v.leases === 1 ? ' is' : ' are'} under Observed.
            </p>
          )}
          {order && v.proposed.length > 0 && <OfThemselves order={order} proposed={v.proposed} />}
          {order && <Safe order={order} />}
          {v.left.length > 0 && (
            <>
              <h3 className="mt-3 font-semibold">Not read</h3>
              <ul className="mt-1 text-[13px]">
                {v.left.map((l) => (
                  <li key={l.device + l.what + l.why} className="py-1 border-b border-seam-2">
                    {l.device && <span className="mono">{l.device}</span>} {l.what}
                    <span className="block text-[12.5px] text-ink-2">{l.why}</span>
                  </li>
                ))}
              </ul>
            </>
          )}
        </div>
      )}
      <span className="flex justify-end gap-2 mt-4">
        <button className="btn" onClick={onClose}>
          {v ? 'Close' : 'Cancel'}
        </button>
        {!v && (
          <button className="btn btn-next" disabled={take.isPending} onClick={() => take.mutate()}>
            {take.isPending ? 'Reading' : 'Read them'}
          </button>
        )}
      </span>
    </Window>
  )
}

/** What devices say of themselves and the draft records otherwise: each is taken by itself, or left. */
function OfThemselves({ order, proposed }: { order: Schemas['Head']; proposed: Schemas['Proposed'][] }) {
  return (
    <section aria-label="What devices say of themselves" className="mt-3">
      <h3 className="font-semibold">Devices say of themselves</h3>
      <ul className="mt-1 text-[13px]">
        {proposed.map((p) => (
          <OfItself key={p.device + p.what} order={order} proposed={p} />
        ))}
      </ul>
    </section>
  )
}

/** One of them, with the press that records it so. */
function OfItself({ order, proposed: p }: { order: Schemas['Head']; proposed: Schemas['Proposed'] }) {
  const take = useDraftStep(
    order,
    async (version) => {
      const changed = await call(
        api.POST('/api/orders/{order}/edits', {
          params: { path: { order: order.id } },
          body: { version, edits: p.edits, look: {} },
        }),
      )
      return { version: changed.order?.version ?? version }
    },
    () => announce(`The draft has ${p.says}`),
  )
  return (
    <li className="py-1 border-b border-seam-2 flex flex-wrap gap-x-2 items-center">
      <span>
        <span className="mono">{p.device}</span> says that its {p.what} is <b>{p.says}</b>; here it is {p.here}
      </span>
      <SmallButton
        className="ml-auto"
        disabled={take.isPending || take.isSuccess}
        onClick={() => take.mutate()}
        aria-label={`Record the ${p.what} ${p.says} for ${p.device}`}
      >
        {take.isSuccess ? 'Recorded' : 'Record it so'}
      </SmallButton>
      <Alert className="basis-full">{take.error && problemOf(take.error).message}</Alert>
    </li>
  )
}

/** The fixes of what the rules find that tell no known client anything else. */
function Safe({ order }: { order: Schemas['Head'] }) {
  const ask = (version: number, apply: boolean) =>
    call(
      api.POST('/api/orders/{order}/safe-fixes', { params: { path: { order: order.id } }, body: { version, apply } }),
    )
  const found = useQuery({
    queryKey: ['order', order.id, 'safe', order.version],
    queryFn: () => ask(order.version, false),
  })
  const apply = useDraftStep(
    order,
    (version) => ask(version, true),
    (v) => announce(`${plural(v.fixes.length, 'fix', 'fixes')} made, as one step`),
  )
  const v = apply.data ?? found.data
  if (!v || v.fixes.length + v.left === 0) return null
  return (
    <section aria-label="What the rules find" className="mt-3">
      <h3 className="font-semibold">
        {v.fixes.length === 0
          ? `${plural(v.left, 'finding', 'findings')} on the way, none with a fix that is safe by itself`
          : `${plural(v.fixes.length, 'safe fix', 'safe fixes')} of ` +
            plural(v.fixes.length + v.left, 'finding', 'findings')}
      </h3>
      <p className="text-ink-2 text-[12.5px]">
        A safe fix tells no known client anything else and brings no other finding.
      </p>
      <ul className="text-[13px]">
        {v.fixes.map((f, n) => (
          <li key={n} className="py-1 border-b border-seam-2">
            {f.title}: {f.fix}
          </li>
        ))}
      </ul>
      <Alert>{apply.error && problemOf(apply.error).message}</Alert>
      {v.fixes.length > 0 && (
        <button
          className="btn mt-2"
          disabled={apply.isPending || apply.data !== undefined}
          onClick={() => apply.mutate()}
        >
          {apply.data ? 'Made' : 'Make the safe fixes'}
        </button>
      )}
    </section>
  )
}
