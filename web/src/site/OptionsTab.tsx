import { useMutation } from '@tanstack/react-query'
import { api, call, type Schemas, type View } from '../api/client'
import { MessageCard } from './Message'
import { Copy } from '../parts/Copy'
import type { Asked } from './pageState'
import { Table, type Column } from '../parts/Table'

type Props = {
  view: View
  network: Schemas['NetworkView']
  site: string
  onSelect: (ref: string) => void
  ask: (asked: Asked) => void
}

/**
 * The options of the network's clients with where each comes from, the reply that carries them, and the site's own
 * kinds.
 */
export function OptionsTab({ view, network, site, onSelect, ask }: Props) {
  return (
    <div className="py-2">
      <Table columns={columns} className="">
        <tbody>
          {network.effective.map((o) => (
            <tr key={o.code}>
              <td className="list-cell mono text-ink-3">{o.code}</td>
              <td className="list-cell">{o.name}</td>
              <td className="list-cell mono" title={o.value}>
                <Copy text={o.value} />
              </td>
              <td className="list-cell text-ink-2" title={o.from}>
                {o.from}
                {o.hides && `; ${o.hides}`}
                {o.otherwise && `; ${o.otherwise}`}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
      <p className="text-ink-2 mt-2">
        What clients of this network are told before a vendor class or reservation says otherwise.
      </p>
      <div className="flex gap-2 mt-2">
        <button
          className="btn"
          onClick={() => {
            ask({ kind: 'option', option: {} })
          }}
        >
          Set an option
        </button>
      </div>
      <Reply view={view} network={network} site={site} />
      <Parts
        title="Vendor classes"
        says="Clients told apart by what they send as option 60, with sub-options of their own (options 43 and 125)."
        parts={view.classes}
        add="Add a vendor class"
        onSelect={onSelect}
        onAdd={() => {
          ask({ kind: 'form', form: { kind: 'class' } })
        }}
      />
      <Parts
        title="Own options"
        says="Private codes, 224 to 254, that this site gives a name and a type."
        parts={view.ownParts}
        add="Define an option"
        onSelect={onSelect}
        onAdd={() => {
          ask({ kind: 'form', form: { kind: 'definition' } })
        }}
      />
    </div>
  )
}

/** The acknowledgement a new client would get, computed with real packets. */
function Reply({ view, network, site }: { view: View; network: Schemas['NetworkView']; site: string }) {
  const attempt = useMutation({
    mutationFn: (vendor: string) =>
      call(
        api.POST('/api/sites/{site}/try', {
          params: { path: { site } },
          body: {
            network: network.id,
            order: view.order?.id,
            against: 'draft',
            hostName: 'a-client',
            class: vendor,
            parameters: Array.from({ length: 254 }, (_, i) => i + 1).join(','),
          },
        }),
      ),
  })
  const last = attempt.data?.scenes[0]?.messages.at(-1)
  return (
    <section className="mt-4" aria-label="The reply">
      <h2>The reply as a client sees it</h2>
      <div className="flex gap-2 mt-1 flex-wrap">
        <button className="btn !h-[28px]" disabled={attempt.isPending} onClick={() => attempt.mutate('')}>
          Of any client
        </button>
        {view.classes.map((c) => (
          <button
            key={c.ref}
            className="btn !h-[28px]"
            disabled={attempt.isPending}
            onClick={() => attempt.mutate(c.match ?? '')}
          >
            Of class {c.name}
          </button>
        ))}
      </div>
      {attempt.error && (
        <p role="alert" className="text-cinnabar-ink mt-1">
          {attempt.error.message}
        </p>
      )}
      {last && (
        <ul className="mt-2 -ml-10">
          <MessageCard key={last.bytes} message={last} open />
        </ul>
      )}
    </section>
  )
}

function Parts({
  title,
  says,
  parts,
  add,
  onSelect,
  onAdd,
}: {
  title: string
  says: string
  parts: Schemas['PartView'][]
  add: string
  onSelect: (ref: string) => void
  onAdd: () => void
}) {
  return (
    <section className="mt-4" aria-label={title}>
      <h2>{title}</h2>
      <p className="text-ink-3 text-[12.5px]">{says}</p>
      <ul>
        {parts.map((p) => (
          <li key={p.ref} className="border-b border-seam-2 py-0.5">
            <button className="hover:underline font-semibold" onClick={() => onSelect(p.ref)}>
              {p.name}
            </button>{' '}
            <span className="text-ink-2">{p.detail}</span>
          </li>
        ))}
      </ul>
      <button className="btn !h-[28px] mt-1.5" onClick={onAdd}>
        {add}
      </button>
    </section>
  )
}

const columns: Column[] = [['Code', '60px'], ['Option', '150px'], ['Value'], ['Where it comes from', '38%']]
