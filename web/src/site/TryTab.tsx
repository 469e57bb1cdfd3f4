import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useForm } from 'react-hook-form'
import { api, call, problemOf, type Schemas, type View } from '../api/client'
import { Copy } from '../parts/Copy'
import { Choice, Field } from '../parts/Field'
import { SmallButton } from '../parts/SmallButton'
import { MessageCard } from './Message'

type Act = Schemas['Act']
type Values = {
  port: string
  mac: string
  hostName: string
  against: string
  class: string
  clientId: string
  parameters: string
  largest: string
}

/** Lets a client act on a network, and shows every message that passes. */
export function TryTab({ view, network, site }: { view: View; network: Schemas['NetworkView']; site: string }) {
  const client = useQueryClient()
  const form = useForm<Values>({
    defaultValues: {
      port: '',
      mac: '',
      hostName: 'new-tablet',
      against: view.order ? 'draft' : 'device',
      class: '',
      clientId: '',
      parameters: '',
      largest: '',
    },
  })
  const [acts, setActs] = useState<Act[]>([])
  // What the draft was when the client was tried: the result stays, and says when it is old.
  const [tried, setTried] = useState<number>()
  const attempt = useMutation({
    mutationFn: ({ v, acts }: { v: Values; acts: Act[] }) =>
      call(
        api.POST('/api/sites/{site}/try', {
          params: { path: { site } },
          body: {
            ...v,
            against: v.against as 'draft',
            network: network.id,
            order: view.order?.id,
            acts,
          },
        }),
      ),
    onSuccess: (r, { v, acts }) => {
      setActs(acts)
      setTried(view.order?.version)
      form.setValue('mac', r.mac)
      if (v.against === 'device') void client.invalidateQueries({ queryKey: ['view', site] })
    },
  })
  const run = (next: Act[]) => void form.handleSubmit((v) => attempt.mutate({ v, acts: next }))()
  const problem = attempt.error && problemOf(attempt.error)
  const ports = view.devices.flatMap((d) =>
    d.interfaces
      .filter((i) => i.kind === 'port' && !i.cabled && !i.addresses)
      .map((i) => ({ value: i.id, label: `${i.name} of ${d.name}` })),
  )
  const stray = problem && !Object.keys(problem.fields).some((f) => f in form.getValues())
  return (
    <div className="py-3">
      <form
        aria-label="Try a client"
        onSubmit={(e) => {
          e.preventDefault()
          run([{ do: 'lease' }])
        }}
        className="grid grid-cols-[1fr_1fr_1fr_auto] max-[820px]:grid-cols-2 gap-3 items-start"
      >
        <Field
          label="MAC"
          mono
          placeholder="made up when empty"
          {...form.register('mac')}
          error={problem?.fields.mac}
        />
        <Field label="Host name" mono {...form.register('hostName')} error={problem?.fields.hostName} />
        <Choice
          label="Against"
          options={[
            { value: 'device', label: 'the real device' },
            { value: 'draft', label: view.order ? 'the draft, computed' : 'the file, computed' },
          ]}
          {...form.register('against')}
        />
        <button className="btn mt-[21px] !h-[34px]" disabled={attempt.isPending}>
          {attempt.isPending ? 'Asking…' : 'Try a client'}
        </button>
        <details className="col-span-full" open={inside.some((f) => problem?.fields[f]) || undefined}>
          <summary className="text-ink-2 cursor-pointer">What it says of itself and asks for</summary>
          <div className="grid grid-cols-2 gap-3 mt-2">
            <Choice
              label="Plugged into"
              options={[{ value: '', label: `the network ${network.name}` }, ...ports]}
              {...form.register('port')}
            />
            <Field label="Vendor class (option 60)" mono {...form.register('class')} error={problem?.fields.class} />
            <Field
              label="Client identifier (option 61)"
              mono
              {...form.register('clientId')}
              error={problem?.fields.clientId}
            />
            <Field
              label="Asks for (option 55)"
              mono
              placeholder="the usual"
              hint="Codes with commas, for example 1, 3, 6, 15, 43"
              {...form.register('parameters')}
              error={problem?.fields.parameters}
            />
            <Field
              label="Accepts (option 57)"
              mono
              placeholder="576"
              hint="Octets of the largest reply"
              inputMode="numeric"
              {...form.register('largest')}
              error={problem?.fields.largest}
            />
          </div>
        </details>
      </form>
      {stray && (
        <div role="alert" className="border-l-3 border-cinnabar bg-cinnabar-t text-cinnabar-ink px-3 py-2 mt-2">
          {problem.message}
        </div>
      )}
      {attempt.data && tried !== view.order?.version && (
        <p role="status" className="mt-2 flex flex-wrap items-center gap-2">
          The draft has changed since this client was tried.
          <SmallButton
            disabled={attempt.isPending}
            onClick={() => {
              run(acts)
            }}
          >
            Try it again
          </SmallButton>
        </p>
      )}
      {attempt.data && (
        <Result result={attempt.data} view={view} busy={attempt.isPending} onAct={(a) => run([...acts, a])} />
      )}
    </div>
  )
}

/** Fields that are folded away at first: one that is wrong opens them. */
const inside = ['class', 'clientId', 'parameters', 'largest']

const names: Record<Act['do'], string> = {
  lease: 'Starts',
  renew: 'Renews',
  release: 'Gives back',
  reboot: 'Starts again',
  stale: 'Starts with a stale address',
  move: 'Moves to',
  fill: 'Others fill the pool',
}

function Result({
  result: r,
  view,
  busy,
  onAct,
}: {
  result: Schemas['TryResult']
  view: View
  busy: boolean
  onAct: (a: Act) => void
}) {
  const [to, setTo] = useState('')
  const others = view.layers.flatMap((l) => (l.id && l.id !== view.network?.id ? [{ id: l.id, name: l.name }] : []))
  return (
    <div className="mt-2">
      <p className="text-[15px]" role="status">
        {r.address ? (
          <>
            <span className="text-malachite-ink font-semibold">✓</span> <span className="mono">{r.mac}</span>
            {' was given '}
            <Copy text={r.address} className="mono font-bold" />
          </>
        ) : (
          <>
            <span className="text-cinnabar-ink font-semibold">No address.</span> {r.why}
          </>
        )}
        <span className="text-ink-3"> by {r.on}</span>
      </p>
      {r.strangers.length > 0 && (
        <p role="alert" className="text-cinnabar-ink mt-1">
          Another DHCP server answered: <span className="mono">{r.strangers.join(', ')}</span>. No device of this site
          has that address; find it and switch its server off.
        </p>
      )}
      <dl className="flex flex-wrap gap-x-5 mt-1" aria-label="The ladder">
        {r.rungs.map((g) => (
          <div
            key={g.name}
            className={g.state === 'fail' ? 'text-cinnabar-ink font-semibold' : g.state === 'skip' ? 'text-ink-3' : ''}
          >
            <dt className="inline">
              {g.state === 'pass' ? '✓' : g.state === 'fail' ? '✗' : '–'} {g.name}{' '}
            </dt>
            <dd className="inline mono">{g.value}</dd>
          </div>
        ))}
      </dl>
      <div className="flex flex-wrap gap-1.5 mt-2 items-center" role="group" aria-label="What it does next">
        <span className="text-ink-2">Next, it</span>
        {(['renew', 'release', 'reboot', 'stale', 'fill'] as const).map((a) => (
          <button key={a} className="btn !h-[28px]" disabled={busy} onClick={() => onAct({ do: a })}>
            {names[a].toLowerCase()}
          </button>
        ))}
        {others.length > 0 && (
          <select
            aria-label="Move to"
            className="field !w-auto !h-[28px]"
            value={to}
            disabled={busy}
            onChange={(e) => {
              setTo('')
              if (e.target.value) onAct({ do: 'move', to: e.target.value })
            }}
          >
            <option value="">moves to…</option>
            {others.map((n) => (
              <option key={n.id} value={n.id}>
                {n.name}
              </option>
            ))}
          </select>
        )}
      </div>
      {r.scenes.map((s, i) => (
        <section key={i} className="mt-3">
          <h2>
            {i + 1}. {names[s.do]}
            {s.do === 'move' ? ` ${s.network}` : ''} <span className="font-normal text-ink">{s.says}</span>
          </h2>
          <ol className="mt-1.5 grid gap-2">
            {s.messages.map((m, k) => (
              <MessageCard key={k} message={m} />
            ))}
          </ol>
        </section>
      ))}
    </div>
  )
}
