import { useState } from 'react'
import type { Schemas } from '../api/client'
import { useRehearsedClients, useRehearsedReply } from '../api/queries'
import { Copy } from '../parts/Copy'
import { Table, type Column } from '../parts/Table'
import { When } from '../parts/When'
import { MessageCard } from '../site/Message'
import { plural } from '../parts/plural'
import { Worded } from '../parts/Values'

const rungs = ['link', 'lease', 'gateway', 'internet', 'local name', 'outside name', 'reverse']
const tints: Record<string, string> = {
  fail: 'bg-cinnabar-t text-cinnabar-ink font-semibold',
  skip: 'text-ink-3',
}

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
          {report.from && (
            <>
              ; times are counted from its window, <When at={report.from} zone={report.zone} clock />
            </>
          )}
        </span>
        {!current && <span className="text-sand-ink font-semibold">▲ The draft has changed since; rehearse again</span>}
      </div>
      <table className="mt-3 bg-sheet border border-seam table-fixed">
        <thead>
          <tr>
            <th className="list-head w-[128px] !px-2 border-r border-r-seam-2 bg-slab">Network</th>
            {rungs.map((r) => (
              <th
                key={r}
                className={
                  'list-head !px-1.5 border-r border-r-seam-2 bg-slab ' +
                  (r === 'link' || r === 'lease' ? 'w-[76px]' : '')
                }
              >
                <span className="inline-block first-letter:uppercase">{r}</span>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {order.map((n) => (
            <tr key={n.id}>
              <th scope="row" className="text-left px-2 py-1.5 border-b border-r border-seam-2 font-normal">
                <b>{n.name}</b>
                {touched.includes(n.id) && <span className="text-[12px] text-ink-2"> · in this draft</span>}
                <div className="text-[12.5px] text-ink-3">
                  {n.vlan ? `VLAN ${n.vlan}` : 'untagged'} · {plural(n.clients, 'client')}
                </div>
              </th>
              {n.rungs.map((r) => (
                <td
                  key={r.name}
                  className={
                    'px-1.5 py-1.5 border-b border-r border-seam-2 align-top text-[12.5px] break-words ' +
                    (tints[r.state] ?? '')
                  }
                >
                  {r.state === 'pass' ? (
                    <>
                      <span className="text-malachite-ink">✓</span>{' '}
                      <span className="mono !text-[11.5px] tracking-tight">
                        <Worded text={r.value} />
                      </span>
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
        <h2>{report.moving ? 'Clients affected' : 'No known client is affected'}</h2>
        {report.known.length > 0 && <WhenAllKnow known={report.known} zone={report.zone} />}
        {report.moving > 0 && (
          <Clients
            order={id}
            moving
            first={rehearsal.moving}
            total={report.moving}
            at={report.at}
            zone={report.zone}
            names={names}
          />
        )}
      </section>
      {keeping > 0 && <Keeping order={id} total={keeping} at={report.at} zone={report.zone} names={names} />}
    </section>
  )
}

/** By when all clients are told each thing that changes. */
function WhenAllKnow({ known, zone }: { known: Schemas['Known'][]; zone: string }) {
  return (
    <ul className="mb-1.5">
      {known.map((k) => (
        <li key={k.what}>
          <b className={'font-semibold first-letter:uppercase ' + 'inline-block'}>{k.what}</b>:{' '}
          {plural(k.clients, 'client')}.{' '}
          {k.by && (
            <>
              All that hold a lease know by <When at={k.by} zone={zone} clock />
              {k.asking ? `; ${plural(k.asking, 'other')} when they next ask.` : '.'}
            </>
          )}
          {!k.by && (k.clients === 1 ? 'It knows when it next asks.' : 'They know when they next ask.')}
        </li>
      ))}
    </ul>
  )
}

/** A rehearsal whose clients are shown: of which order, when, in which time zone, with the names of its networks. */
type Shown = { order: number; at: string; zone: string; names: Record<string, string> }

/** Those that keep what they have are asked for when somebody wants to see them. */
function Keeping({ order, total, at, zone, names }: Shown & { total: number }) {
  const [open, setOpen] = useState(false)
  return (
    <details className="mt-4" onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className="text-ink-2 cursor-pointer">
        {total === 1 ? 'The client that keeps what it has' : `The ${total} clients that keep what they have`}
      </summary>
      {open && <Clients order={order} moving={false} total={total} at={at} zone={zone} names={names} />}
    </details>
  )
}

function Clients({
  order,
  moving,
  first,
  total,
  at,
  zone,
  names,
}: Shown & {
  moving: boolean
  first?: Schemas['ClientPage']
  total: number
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
      <ClientTable clients={clients} names={names} order={order} at={at} zone={zone} />
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

function ClientTable({ clients, names, order, at, zone }: Shown & { clients: Schemas['RehearsedClient'][] }) {
  const [shown, setShown] = useState<number>()
  return (
    <Table columns={columns} className="mt-1 bg-sheet border border-seam">
      <tbody>
        {clients.map((c) => {
          const key = c.seq
          return [
            <tr key={key}>
              <td className="list-cell" title={c.mac}>
                <Copy text={c.name || (c.mac ?? '')} />
              </td>
              <td className="list-cell text-ink-2">{names[c.network] ?? c.on}</td>
              <td className="list-cell mono !whitespace-normal">
                <Addresses client={c} />
              </td>
              <td className="list-cell text-ink-2 !whitespace-normal">
                <Otherwise client={c} />
              </td>
              <td className="list-cell text-ink-2 !whitespace-normal" title={c.when}>
                {c.by ? <When at={c.by} zone={zone} clock /> : c.when}
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
                <td colSpan={columns.length} className="p-2">
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

/** What a client has, and has afterwards where that is something else. */
function Addresses({ client: c }: { client: Schemas['RehearsedClient'] }) {
  const before = c.before ? <Copy text={c.before} /> : 'nothing'
  if (c.before === c.after) return before
  return (
    <>
      {before} →{' '}
      {c.after ? <Copy text={c.after} className="font-semibold" /> : <span className="text-cinnabar-ink">nothing</span>}
    </>
  )
}

/** What a client is told otherwise, from what to what, and why it has no address where it has none. */
function Otherwise({ client: c }: { client: Schemas['RehearsedClient'] }) {
  const told = (c.changes ?? []).filter((t) => t.what !== 'address')
  return (
    <>
      {c.why && <div className="text-cinnabar-ink">{c.why}</div>}
      {told.map((t) => (
        <div key={t.what} className="[overflow-wrap:anywhere]">
          {t.what} <span className="mono">{t.was || 'not told'}</span> →{' '}
          <span className="mono text-ink">{t.now || 'not told'}</span>
        </div>
      ))}
    </>
  )
}

const columns: Column[] = [
  ['Client', '16%'],
  ['Network', '13%'],
  ['Address', '122px'],
  ['Changes'],
  ['When', '92px'],
  ['Reply', '88px'],
]
