import { useState } from 'react'
import { Link } from 'react-router'
import { useSites } from '../api/queries'
import { usePageTitle } from '../frame/usePageTitle'
import { MovesList } from '../moves/MovesList'
import { Empty } from '../parts/Empty'
import { Mark } from '../parts/Kind'
import { useRoving } from '../parts/roving'
import { sorted, SortHead, useOpenRow, useSort } from '../parts/rows'
import { When } from '../parts/When'
import { plural } from '../parts/plural'
import { Archived } from './Archived'
import { BeginSite } from './BeginSite'
import { needsLook, useFollowing } from './FollowingPage'
import { Loading } from '../parts/Loading'
import { useInAddress } from '../parts/useInAddress'

/** Every site with what is wrong there. */
export function Rounds() {
  const sites = useSites()
  const following = useFollowing(false)
  const wrong = (following.data ?? []).filter(needsLook).length
  const [filter, setFilter] = useInAddress('filter')
  const [beginning, setBeginning] = useState(false)
  const sorting = useSort<'name' | 'customer' | 'block' | 'networks' | 'gravity' | 'changed'>()
  const open = useOpenRow()
  const list = useRoving<HTMLTableSectionElement>()
  usePageTitle('Rounds')
  if (sites.error) return <Empty title="Rounds cannot be shown" says={sites.error.message} />
  if (!sites.data) return <Loading of="Rounds" />
  const words = filter.toLowerCase()
  const filtered = sites.data.filter((s) =>
    `${s.name} ${s.customer} ${s.block} ${s.code}`.toLowerCase().includes(words),
  )
  // The server lists the gravest first: a site's place there is its gravity.
  const places = new Map(sites.data.map((s, i) => [s.code, i]))
  const rows = sorted(filtered, sorting.sort, (s, by) => (by === 'gravity' ? (places.get(s.code) ?? 0) : s[by]))
  const troubled = sites.data.filter((s) => s.blocks + s.warns > 0).length
  return (
    <div className="bg-sheet min-h-full px-5 py-4">
      <div className="flex items-baseline gap-4 flex-wrap">
        <h1>Rounds</h1>
        <span className="text-ink-2">
          {plural(sites.data.length, 'site')}, {troubled === 0 ? 'no problems' : `${troubled} with problems`}
        </span>
        {following.data && following.data.length > 0 && (
          <Link className="hover:underline" to="/rounds/following">
            {plural(following.data.length, 'dynamic name')}
            {wrong > 0 && <span className="text-cinnabar-ink">, {plural(wrong, 'needs', 'need')} attention</span>}
          </Link>
        )}
        <button className="btn !h-[30px] ml-auto" onClick={() => setBeginning(true)}>
          Add a site
        </button>
        <input
          aria-label="Filter sites"
          placeholder="Filter sites"
          value={filter}
          onChange={(e) => setFilter(e.target.value)}
          className="field !w-[220px] !h-[30px]"
        />
      </div>
      <table className="mt-3 table-fixed folds rounds">
        <thead>
          <tr>
            <SortHead by="name" label="Site" width="16.5%" {...sorting} />
            <SortHead by="customer" label="Customer" width="16%" {...sorting} />
            <SortHead by="block" label="Block" width="16.5%" {...sorting} />
            <SortHead by="networks" label="Networks" width="7%" {...sorting} />
            <SortHead by="gravity" label="Problems" {...sorting} />
            <th className="list-head w-[6%]">Orders</th>
            <SortHead by="changed" label="Changed" width="9%" {...sorting} />
          </tr>
        </thead>
        <tbody {...list} id="list" data-place="list">
          {rows.map((s) => (
            <tr key={s.code} {...open(`/sites/${s.code}`)}>
              <td className="list-cell">
                <Link to={`/sites/${s.code}`} data-row className="font-semibold hover:underline">
                  {s.name}
                </Link>
              </td>
              <td className="list-cell text-ink-2">{s.customer}</td>
              <td className="list-cell mono !whitespace-normal !h-auto py-1">{s.block}</td>
              <td className="list-cell">{s.networks}</td>
              <td className="list-cell !whitespace-normal !h-auto py-1">
                {s.worst ? (
                  <Link to={`/sites/${s.code}?finding=${encodeURIComponent(s.worst.id)}`} className="hover:underline">
                    <Mark severity={s.worst.severity} /> {s.worst.title}
                    {s.findings > 1 && ` and ${s.findings - 1} more`}
                  </Link>
                ) : (
                  <span className="text-ink-3">no {s.meant > 0 && 'other '}problems</span>
                )}
                {s.meant > 0 && <span className="text-ink-3">, {s.meant} meant so</span>}
              </td>
              <td className="list-cell text-ink-2">{s.orders > 0 && `${s.orders} open`}</td>
              <td className="list-cell text-ink-2" title={`Revision ${s.revision}`}>
                <When at={s.changed} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <MovesList title="Moves under way" />
      <Archived />
      {beginning && <BeginSite onClose={() => setBeginning(false)} />}
      {rows.length === 0 && (
        <Empty
          inside
          title={sites.data.length ? 'No site matches' : 'There is no site yet'}
          says={
            sites.data.length
              ? 'Type less, or another word.'
              : 'Say whose it is and which addresses it has; its networks and devices come next. A site file ' +
                'can be imported, too: lithos import FILE.'
          }
        >
          {sites.data.length === 0 && (
            <button className="btn btn-next" onClick={() => setBeginning(true)}>
              Add the first site
            </button>
          )}
        </Empty>
      )}
    </div>
  )
}
