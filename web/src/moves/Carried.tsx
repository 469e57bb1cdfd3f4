import { useState } from 'react'
import { plural } from '../parts/plural'
import { Table, type Column } from '../parts/Table'
import type { Plan } from './useMove'

type Row = Plan['rows'][number]

const columns: Column[] = [
  ['What', '23%'],
  ['Was', '20%'],
  ['Will be', '20%'],
  ['How it gets there'],
  ['Clients notice', '15%'],
]

/** Everything a move carries along: what it was, what it will be, how it gets there, when clients notice. */
export function Carried({ plan }: { plan: Plan }) {
  const same = plan.rows.filter((r) => r.same)
  const [all, setAll] = useState(same.length <= 3)
  const rows = all ? plan.rows : plan.rows.filter((r) => !r.same)
  return (
    <section aria-label="Changed with it" className="mt-4">
      <h2>Changed with it</h2>
      <Table columns={columns} className="mt-1">
        <tbody>
          {rows.map((r, i) => (
            <Line key={i} row={r} />
          ))}
          {!all && (
            <tr>
              <td className="list-cell" colSpan={5}>
                <button
                  className="underline"
                  onClick={() => {
                    setAll(true)
                  }}
                >
                  {plural(same.length, 'more address', 'more addresses')} with the same host number
                </button>
              </td>
            </tr>
          )}
        </tbody>
      </Table>
      {plan.elsewhere.map((e) => (
        <div key={e.site ?? e.name}>
          <h3 className="mt-3 font-semibold">
            {e.site ? `At ${e.name}, in a work order of its own` : `${e.name}, as it is kept for all sites`}
          </h3>
          <Table columns={columns}>
            <tbody>
              {e.rows.map((r, i) => (
                <Line key={i} row={r} />
              ))}
            </tbody>
          </Table>
        </div>
      ))}
      {plan.notes.length > 0 && (
        <>
          <h3 className="mt-3 font-semibold">To check by hand: free text that names an old address</h3>
          <ul className="mt-1">
            {plan.notes.map((n, i) => (
              <li key={i} className="py-1 border-b border-seam-2">
                <b>{n.name}</b>, <span className="mono">{n.address}</span>: {n.text}
              </li>
            ))}
          </ul>
        </>
      )}
    </section>
  )
}

function Line({ row }: { row: Row }) {
  return (
    <tr>
      <td className="list-cell whitespace-normal [overflow-wrap:anywhere]">{row.what}</td>
      <td className="list-cell mono whitespace-normal [overflow-wrap:anywhere]">{row.was}</td>
      <td className="list-cell mono whitespace-normal [overflow-wrap:anywhere]">{row.will}</td>
      <td className={`list-cell whitespace-normal ${row.odd ? 'text-cinnabar-ink' : 'text-ink-2'}`}>{row.how}</td>
      <td className="list-cell text-ink-2 whitespace-normal">{row.when}</td>
    </tr>
  )
}
