import { useState } from 'react'
import type { Schemas } from '../api/client'
import { When } from '../parts/When'
import { MessageCard } from '../site/Message'

const rungs = ['link', 'lease', 'gateway', 'internet']

/** The ladder of each network, who is given something else, and each client's reply. */
export function Rehearsal({ rehearsal, current, touched }: { rehearsal: Schemas['Rehearsal']; current: boolean; touched: string[] }) {
  const { report } = rehearsal
  const names = Object.fromEntries(report.networks.map((n) => [n.id, n.name]))
  const order = [...report.networks].sort((a, b) => Number(touched.includes(b.id)) - Number(touched.includes(a.id)))
  const moving = report.clients.filter((c) => c.moves)
  return (
    <section aria-label="Rehearsal">
      <div className="flex items-baseline gap-3 flex-wrap">
        <h1>Rehearsal</h1>
        <span className="text-ink-2">{report.clients.length} known clients, run <When at={report.at} /> by {rehearsal.by}</span>
        {!current && <span className="text-sand-ink font-semibold">▲ The draft has changed since; rehearse again</span>}
      </div>
      <table className="mt-3 bg-sheet border border-seam table-fixed">
        <thead>
          <tr>
            <th className="list-head w-[180px] border-r border-r-seam-2 bg-slab">Network</th>
            {rungs.map((r) => <th key={r} className="list-head border-r border-r-seam-2 bg-slab capitalize">{r}</th>)}
          </tr>
        </thead>
        <tbody>
          {order.map((n) => (
            <tr key={n.id}>
              <th scope="row" className="text-left px-2.5 py-1.5 border-b border-r border-seam-2 font-normal">
                <b>{n.name}</b>{touched.includes(n.id) && <span className="text-[12px] text-ink-2"> · in this draft</span>}
                <div className="text-[12.5px] text-ink-3">{n.vlan ? `VLAN ${n.vlan}` : 'untagged'} · {n.clients === 1 ? '1 client' : `${n.clients} clients`}</div>
              </th>
              {n.rungs.map((r) => (
                <td key={r.name} className={`px-2.5 py-1.5 border-b border-r border-seam-2 align-top ${r.state === 'fail' ? 'bg-cinnabar-t text-cinnabar-ink font-semibold' : r.state === 'skip' ? 'text-ink-3' : ''}`}>
                  {r.state === 'pass' ? <><span className="text-malachite-ink">✓</span> <span className="mono">{r.value}</span></> : <>{r.state === 'fail' && '✗ '}{r.value}</>}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      <section className="mt-5">
        <h2>{moving.length ? 'Who is told something else' : 'No known client is told anything else'}</h2>
        {moving.length > 0 && <Clients clients={moving} names={names} />}
      </section>
      {report.clients.length > moving.length && (
        <details className="mt-4">
          <summary className="text-ink-2 cursor-pointer">The {report.clients.length - moving.length} clients that keep what they have</summary>
          <Clients clients={report.clients.filter((c) => !c.moves)} names={names} />
        </details>
      )}
    </section>
  )
}

function Clients({ clients, names }: { clients: Schemas['Client'][]; names: Record<string, string> }) {
  const [shown, setShown] = useState('')
  return (
    <table className="mt-1 bg-sheet border border-seam table-fixed">
      <thead>
        <tr>
          <th className="list-head w-[17%]">Client</th>
          <th className="list-head w-[15%]">Network</th>
          <th className="list-head w-[14%]">Now</th>
          <th className="list-head w-[14%]">After</th>
          <th className="list-head">When</th>
          <th className="list-head w-[90px]">Reply</th>
        </tr>
      </thead>
      <tbody>
        {clients.map((c) => {
          const key = c.mac + c.network
          return [
            <tr key={key}>
              <td className="list-cell" title={c.mac}>{c.name}</td>
              <td className="list-cell text-ink-2">{names[c.network]}</td>
              <td className="list-cell mono">{c.before || 'nothing'}</td>
              <td className={`list-cell mono ${c.after ? '' : 'text-cinnabar-ink'}`}>{c.after || 'nothing'}</td>
              <td className="list-cell text-ink-2 !whitespace-normal">{c.why || [c.changes?.join(', '), c.when].filter(Boolean).join(' ')}</td>
              <td className="list-cell">{c.reply && <button className="hover:underline" aria-expanded={shown === key} onClick={() => setShown(shown === key ? '' : key)}>{c.reply.size} octets</button>}</td>
            </tr>,
            shown === key && c.reply && <tr key={`${key}-reply`}><td colSpan={6} className="p-2"><ul><MessageCard message={c.reply} /></ul></td></tr>,
          ]
        })}
      </tbody>
    </table>
  )
}
