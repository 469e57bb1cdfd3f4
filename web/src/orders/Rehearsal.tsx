import { useState } from 'react'
import type { Schemas } from '../api/client'
import { useRehearsedClients, useRehearsedReply } from '../api/queries'
import { Copy } from '../parts/Copy'
import { Table, type Column } from '../parts/Table'
import { When } from '../parts/When'
import { MessageCard } from '../site/Message'
import { plural } from '../parts/plural'

const rungs = ['link', 'lease', 'gateway', 'internet']

/** The ladder of each network, who is given something else, and each client's reply. */
export function Rehearsal({
  rehearsal,
  order: id,
  current,
  touched,
}: {
  rehearsal: Schemas['Rehearsed']
  order: number
  current: boolean
  touched: string[]
}) {
  const { report } = rehearsal
  const keeping = report.clients - report.moving
  const names = Object.fromEntries(report.networks.map((n) => [n.id, n.name]))
  const order = [...report.networks].sort((a, b) => Number(touched.includes(b.id)) - Number(touched.includes(a.id)))
  return (
    <section aria-label="Rehearsal">
      <div className="flex items-baseline gap-3 flex-wrap">
        <h2 className="!text-ink !text-[20px]">Rehearsal</h2>
        <span className="text-ink-2">
          {report.clients} known clients, run <When at={report.at} /> by {rehearsal.by}
        </span>
        {!current && <span className="text-sand-ink font-semibold">▲ The draft has changed since; rehearse again</span>}
      </div>
      <table className="mt-3 bg-sheet border border-seam table-fixed">
        <thead>
          <tr>
            <th className="list-head w-[180px] border-r border-r-seam-2 bg-slab">Network</th>
            {rungs.map((r) => (
              <th key={r} className="list-head border-r border-r-seam-2 bg-slab capitalize">
                {r}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {order.map((n) => (
            <tr key={n.id}>
              <th scope="row" className="text-left px-2.5 py-1.5 border-b border-r border-seam-2 font-normal">
                <b>{n.name}</b>
                {touched.includes(n.id) && <span className="text-[12px] text-ink-2"> · in this draft</span>}
                <div className="text-[12.5px] text-ink-3">
                  {n.vlan ? `VLAN ${n.vlan}` : 'untagged'} · {plural(n.clients, 'client')}
                </div>
              </th>
              {n.rungs.map((r) => (
                <td
                  key={r.name}
                  className={`px-2.5 py-1.5 border-b border-r border-seam-2 align-top ${r.state === 'fail' ? 'bg-cinnabar-t text-cinnabar-ink font-semibold' : r.state === 'skip' ? 'text-ink-3' : ''}`}
                >
                  {r.state === 'pass' ? (
                    <>
                      <span className="text-malachite-ink">✓</span> <span className="mono">{r.value}</span>
                    </>
                  ) : (
                    <>
                      {r.state === 'fail' && '✗ '}
                      {r.value}
                    </>
                  )}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      <section className="mt-5">
        <h2>{report.moving ? 'Who is told something else' : 'No known client is told anything else'}</h2>
        {report.moving > 0 && (
          <Clients order={id} moving first={rehearsal.moving} total={report.moving} at={report.at} names={names} />
        )}
      </section>
      {keeping > 0 && <Keeping order={id} total={keeping} at={report.at} names={names} />}
    </section>
  )
}

type Names = Record<string, string>

/** Those that keep what they have are asked for when somebody wants to see them. */
function Keeping({ order, total, at, names }: { order: number; total: number; at: string; names: Names }) {
  const [open, setOpen] = useState(false)
  return (
    <details className="mt-4" onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className="text-ink-2 cursor-pointer">
        {total === 1 ? 'The client that keeps what it has' : `The ${total} clients that keep what they have`}
      </summary>
      {open && <Clients order={order} moving={false} total={total} at={at} names={names} />}
    </details>
  )
}

function Clients({
  order,
  moving,
  first,
  total,
  at,
  names,
}: {
  order: number
  moving: boolean
  first?: Schemas['ClientPage']
  total: number
  at: string
  names: Names
}) {
  const [more, setMore] = useState(!first)
  const pages = useRehearsedClients(order, moving, more, at)
  const clients = pages.data?.pages.flatMap((p) => p.clients) ?? first?.clients ?? []
  const hasMore = pages.data ? pages.hasNextPage : !!first?.more
  const next = () => {
    setMore(true)
    if (pages.data) void pages.fetchNextPage()
  }
  return (
    <>
      <ClientTable clients={clients} names={names} order={order} at={at} />
      {pages.error && (
        <div role="alert" className="text-cinnabar-ink mt-1">
          {pages.error.message}
        </div>
      )}
      {hasMore && (
        <button className="btn mt-2" disabled={pages.isFetching} onClick={next}>
          {pages.isFetching ? 'Asking for more…' : `Show more of ${total}`}
        </button>
      )}
    </>
  )
}

function Reply({ order, seq, at }: { order: number; seq: number; at: string }) {
  const reply = useRehearsedReply(order, seq, at)
  if (reply.error)
    return (
      <div role="alert" className="text-cinnabar-ink">
        {reply.error.message}
      </div>
    )
  return reply.data ? (
    <ul>
      <MessageCard message={reply.data} />
    </ul>
  ) : null
}

function ClientTable({
  clients,
  names,
  order,
  at,
}: {
  clients: Schemas['RehearsedClient'][]
  names: Names
  order: number
  at: string
}) {
  const [shown, setShown] = useState<number>()
  return (
    <Table columns={columns} className="mt-1 bg-sheet border border-seam">
      <tbody>
        {clients.map((c) => {
          const key = c.seq
          return [
            <tr key={key}>
              <td className="list-cell" title={c.mac}>
                <Copy text={c.name || c.mac} />
              </td>
              <td className="list-cell text-ink-2">{names[c.network]}</td>
              <td className="list-cell mono">{c.before ? <Copy text={c.before} /> : 'nothing'}</td>
              <td className={`list-cell mono ${c.after ? '' : 'text-cinnabar-ink'}`}>
                {c.after ? <Copy text={c.after} /> : 'nothing'}
              </td>
              <td className="list-cell text-ink-2 !whitespace-normal">
                {c.why || [c.changes?.join(', '), c.when].filter(Boolean).join(' ')}
              </td>
              <td className="list-cell">
                {c.octets > 0 && (
                  <button
                    className="hover:underline"
                    aria-expanded={shown === key}
                    onClick={() => setShown(shown === key ? undefined : key)}
                  >
                    {c.octets} octets
                  </button>
                )}
              </td>
            </tr>,
            shown === key && (
              <tr key={`${key}-reply`}>
                <td colSpan={6} className="p-2">
                  <Reply order={order} seq={c.seq} at={at} />
                </td>
              </tr>
            ),
          ]
        })}
      </tbody>
    </Table>
  )
}

const columns: Column[] = [
  ['Client', '17%'],
  ['Network', '15%'],
  ['Now', '132px'],
  ['After', '132px'],
  ['When'],
  ['Reply', '90px'],
]
