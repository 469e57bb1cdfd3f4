import { useState } from 'react'
import { Link } from 'react-router'
import { useSites } from '../api/queries'
import { Empty } from '../parts/Empty'
import { Mark } from '../parts/Kind'
import { When } from '../parts/When'

/** Every site with what is wrong there. */
export function Rounds() {
  const sites = useSites()
  const [filter, setFilter] = useState('')
  if (sites.error) return <Empty title="Rounds cannot be shown" says={sites.error.message} />
  if (!sites.data) return null
  const words = filter.toLowerCase()
  const rows = sites.data.filter((s) => `${s.name} ${s.customer} ${s.block} ${s.code}`.toLowerCase().includes(words))
  const troubled = sites.data.filter((s) => s.blocks + s.warns > 0).length
  return (
    <div className="bg-sheet min-h-full px-5 py-4">
      <div className="flex items-baseline gap-4 flex-wrap">
        <h1>Rounds</h1>
        <span className="text-ink-2">{sites.data.length} sites, {troubled === 0 ? 'every rule kept' : `${troubled} with something to look at`}</span>
        <input aria-label="Filter sites" placeholder="Filter sites" value={filter} onChange={(e) => setFilter(e.target.value)} className="field ml-auto !w-[220px] !h-[30px]" />
      </div>
      <table className="mt-3 table-fixed">
        <thead>
          <tr>
            <th className="list-head w-[20%]">Site</th>
            <th className="list-head w-[15%]">Customer</th>
            <th className="list-head w-[18%]">Block</th>
            <th className="list-head w-[7%]">Networks</th>
            <th className="list-head">What to look at</th>
            <th className="list-head w-[12%]">Changed</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((s) => (
            <tr key={s.code} className="hover:bg-slab">
              <td className="list-cell"><Link to={`/sites/${s.code}`} className="font-semibold hover:underline">{s.name}</Link></td>
              <td className="list-cell text-ink-2">{s.customer}</td>
              <td className="list-cell mono" title={s.block}>{s.block}</td>
              <td className="list-cell">{s.networks}</td>
              <td className="list-cell">
                {s.worst ? (
                  <Link to={`/sites/${s.code}?finding=${encodeURIComponent(s.worst.id)}`} className="hover:underline">
                    <Mark severity={s.worst.severity} /> {s.worst.title}{s.findings > 1 && ` and ${s.findings - 1} more`}
                  </Link>
                ) : (
                  <span className="text-ink-3">keeps every rule</span>
                )}
                {s.orders > 0 && <span className="text-ink-2 ml-3">{s.orders} open work order{s.orders > 1 && 's'}</span>}
              </td>
              <td className="list-cell text-ink-2">rev. {s.revision}, <When at={s.changed} /></td>
            </tr>
          ))}
        </tbody>
      </table>
      {rows.length === 0 && <Empty title={sites.data.length ? 'No site matches' : 'There is no site yet'} says={sites.data.length ? 'Type less, or another word.' : 'Import a site file: lithos import FILE. The schema of the file is printed by lithos schema.'} />}
    </div>
  )
}
