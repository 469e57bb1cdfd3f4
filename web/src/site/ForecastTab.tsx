import { useQuery, keepPreviousData } from '@tanstack/react-query'
import { useState } from 'react'
import { useForm } from 'react-hook-form'
import { api, call, problemOf, type Schemas, type View } from '../api/client'
import { Choice, Field } from '../parts/Field'
import { plural } from '../parts/plural'
import { Day, Curve, Fill } from './ForecastCharts'

type Props = { view: View; network: Schemas['NetworkView']; site: string }

/** What a pool does through a day, and when its clients learn of a change. */
export function ForecastTab({ view, network, site }: Props) {
  const { pools } = network
  const [pool, setPool] = useState(pools[0]?.id ?? '')
  const [first] = pools
  if (!first)
    return (
      <p className="p-4 text-ink-2">
        This network has no pool yet. Drag over the ruler and choose Pool; its day is worked out here.
      </p>
    )
  const chosen = pools.find((p) => p.id === pool)?.id ?? first.id
  return (
    <div className="py-2">
      {pools.length > 1 && (
        <Choice
          label="Pool"
          options={pools.map((p) => ({ value: p.id, label: `${p.name}  ${p.ranges}` }))}
          value={chosen}
          onChange={(e) => setPool(e.target.value)}
        />
      )}
      <PoolDay key={chosen} view={view} site={site} pool={chosen} />
      <Spread key={`${chosen} spread`} view={view} site={site} pool={chosen} />
    </div>
  )
}

type Ask = { shape: string; perDay: string; stay: string; returning: string; lease: string; size: string }
const nothing: Ask = { shape: '', perDay: '', stay: '', returning: '', lease: '', size: '' }
const clock = (minutes: number) =>
  `${String(Math.floor(minutes / 60)).padStart(2, '0')}:${String(minutes % 60).padStart(2, '0')}`

/** Why no verdict is given; empty where one is. */
function verdict(f: Schemas['ForecastView']): string {
  if (f.low)
    return (
      `More addresses are leased now than these numbers ever give: ${f.leased}, and at most ` +
      `${Math.round(f.day.peak)}. They are too low.`
    )
  if (!f.tooFew) return ''
  return f.seen === 0
    ? 'No lease was read yet, so that there is no verdict. What is drawn is assumed: 60 clients a day, as in a ' +
        'waiting room.'
    : `Too few readings for a verdict: ${plural(f.hours, 'hour')} of the 48 that it takes. What is drawn is ` +
        'what they show so far.'
}

function PoolDay({ view, site, pool }: { view: View; site: string; pool: string }) {
  const [ask, setAsk] = useState(nothing)
  const form = useForm<Ask>({ defaultValues: nothing })
  const { data: f, error } = useQuery({
    queryKey: ['view', site, 'forecast', view.order?.id, pool, ask],
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () =>
      call(
        api.GET('/api/sites/{site}/forecast', {
          params: {
            path: { site },
            query: {
              order: view.order?.id,
              pool,
              shape: ask.shape,
              stay: ask.stay,
              lease: ask.lease,
              perDay: ask.perDay,
              size: ask.size,
              returning: ask.returning,
            },
          },
        }),
      ),
  })
  const wrong = error ? problemOf(error).fields : {}
  return (
    <section aria-label="Pool forecast" className="mt-2">
      <h2>A day of the pool</h2>
      <form
        aria-label="Pool forecast"
        className="grid grid-cols-3 max-[640px]:grid-cols-2 gap-x-3 gap-y-1.5 mt-1"
        onSubmit={(e) => void form.handleSubmit(setAsk)(e)}
      >
        <Choice
          label="Arrivals"
          options={[
            { value: '', label: f ? `${f.shape}${f.seen ? ` (${plural(f.seen, 'client')})` : ', assumed'}` : '' },
            ...(f?.shapes ?? []).map((s) => ({ value: s, label: s })),
          ]}
          {...form.register('shape')}
        />
        <Field
          label="Clients a day"
          mono
          inputMode="numeric"
          placeholder={f && String(Math.round(f.perDay))}
          {...form.register('perDay')}
          error={wrong.perDay}
        />
        <Field
          label="Returning, %"
          mono
          inputMode="numeric"
          placeholder={f && String(f.returning)}
          {...form.register('returning')}
          error={wrong.returning}
        />
        <Field label="Average stay" placeholder={f?.stay} {...form.register('stay')} error={wrong.stay} />
        <Field label="Lease time" placeholder={f?.lease} {...form.register('lease')} error={wrong.lease} />
        <div className="grid grid-cols-[1fr_auto] gap-2 max-[640px]:col-span-full">
          <Field
            label="Addresses"
            mono
            inputMode="numeric"
            placeholder={f && String(f.size)}
            {...form.register('size')}
            error={wrong.size}
          />
          <button className="btn mt-[21px] !h-[34px]">Work out</button>
        </div>
      </form>
      {error && Object.keys(wrong).length === 0 && (
        <p role="alert" className="text-cinnabar-ink mt-1">
          {error.message}
        </p>
      )}
      {f && (
        <>
          <Fill
            course={f.course}
            base={f.base}
            pools={f.pools}
            filled={f.filled}
            says={`At its fullest ${Math.round(f.day.peak)} of ${f.size} addresses are held, as the ruler shows them`}
          />
          <Day held={f.day.leased} size={f.size} />
          <Outcome f={f} />
        </>
      )}
    </section>
  )
}

/** When the pool is full, and what would do. */
function Outcome({ f }: { f: Schemas['ForecastView'] }) {
  return (
    <>
      <p className="mt-1" role="status">
        {verdict(f) ? (
          <b className="text-sand-ink">{verdict(f)}</b>
        ) : f.day.fillsAt >= 0 ? (
          <>
            <b className="text-cinnabar-ink">✗ Full from {clock(f.day.fillsAt)}.</b> Of {Math.round(f.perDay)} clients a
            day about {f.day.turnedAway.toFixed(f.day.turnedAway < 10 ? 1 : 0)} are turned away (
            {(f.day.share * 100).toFixed(f.day.share < 0.1 ? 1 : 0)}%).
          </>
        ) : (
          <>
            <b className="text-malachite-ink">✓ Never full.</b> At most {Math.round(f.day.peak)} of {f.size} are held,
            at {clock(f.day.peakAt)}.
          </>
        )}{' '}
        Now {f.leased} {f.leased === 1 ? 'is' : 'are'} leased.
      </p>
      <p className="text-ink-2">
        {f.tooFew && 'By what is drawn above: '}
        {f.tooFew ? 'with' : 'With'} {f.size} addresses{' '}
        {f.leaseDoes ? (
          <>
            a lease time of <b className="text-ink">{f.leaseDoes}</b> would do
          </>
        ) : (
          'no usual lease time would do'
        )}
        ; with {f.lease} it takes <b className="text-ink">{f.sizeDoes}</b> addresses.
      </p>
    </>
  )
}

function Spread({ view, site, pool }: { view: View; site: string; pool: string }) {
  const [target, setTarget] = useState('15 minutes')
  const form = useForm({ defaultValues: { target } })
  const { data: s, error } = useQuery({
    queryKey: ['view', site, 'spread', view.order?.id, pool, target],
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () =>
      call(
        api.GET('/api/sites/{site}/spread', {
          params: { path: { site }, query: { order: view.order?.id, pool, target } },
        }),
      ),
  })
  return (
    <section aria-label="Propagation" className="mt-5">
      <h2>When clients learn of a changed option</h2>
      {s && (
        <>
          <Curve curve={s.curve} minutes={s.minutes} />
          <p className="mt-1">
            {s.clients ? `Of the ${s.clients} clients with leases` : 'Of the clients'} half know it after{' '}
            <b>{s.half}</b>, 95 in 100 after <b>{s.most}</b>, all that renew on time after <b>{s.all}</b>. One that
            sleeps learns it when its lease ends, after {s.last} at the latest.
          </p>
        </>
      )}
      <form
        aria-label="Propagation"
        className="flex gap-3 items-start mt-2"
        onSubmit={(e) => void form.handleSubmit((v) => setTarget(v.target))(e)}
      >
        <Field
          label="All should know within"
          {...form.register('target')}
          error={error ? problemOf(error).fields.target : undefined}
        />
        <button className="btn mt-[21px] !h-[34px]">Work out</button>
        {s && (
          <p className="mt-[26px] flex-1" role="status">
            {s.needed ? (
              <>
                Set the lease time to <b>{s.set}</b> at least <b>{s.before}</b> before the change; machines asleep then
                may take {s.sleepers}.
              </>
            ) : (
              <>The lease time of {s.lease} is short enough already.</>
            )}
          </p>
        )}
      </form>
    </section>
  )
}
