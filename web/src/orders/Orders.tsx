import { Link } from 'react-router'
import { useOrders } from '../api/queries'
import { usePageTitle } from '../frame/usePageTitle'
import { MovesList } from '../moves/MovesList'
import { Empty } from '../parts/Empty'
import { useRoving } from '../parts/roving'
import { useOpenRow } from '../parts/rows'
import { Table, type Column } from '../parts/Table'
import { When } from '../parts/When'
import { Loading } from '../parts/Loading'

const stages: Record<string, string> = {
  drafted: 'drafted',
  rehearsed: 'rehearsed',
  waiting: 'waits for its window',
  pushing: 'being pushed',
  landed: 'landed',
  returned: 'returned',
  dropped: 'dropped',
}

/** Work orders, open ones first. */
export function Orders() {
  const orders = useOrders()
  const open = useOpenRow()
  const list = useRoving<HTMLTableSectionElement>()
  usePageTitle('Work orders')
  if (orders.error) return <Empty title="Work orders cannot be shown" says={orders.error.message} />
  if (!orders.data) return <Loading of="Work orders" />
  if (orders.data.length === 0)
    return (
      <Empty
        title="There is no work order yet"
        says="A work order holds the edits to a site until they are pushed. Open one from the site's page."
        to="/sites"
        first="Go to a site"
      />
    )
  return (
    <div className="bg-sheet min-h-full px-5 py-4">
      <h1>Work orders</h1>
      <Table columns={columns} className="mt-3">
        <tbody {...list} id="list" data-place="list">
          {orders.data.map((o) => (
            <tr key={o.id} {...open(`/orders/${o.id}`)}>
              <td className="list-cell">
                <Link data-row className="font-semibold hover:underline" to={`/orders/${o.id}`}>
                  {o.name}
                </Link>
              </td>
              <td className="list-cell">{o.title}</td>
              <td className="list-cell mono">{o.ticket}</td>
              <td className="list-cell">
                <Link className="hover:underline" to={`/sites/${o.code}`}>
                  {o.site}
                </Link>
              </td>
              <td className={`list-cell ${o.state === 'open' ? 'font-semibold' : 'text-ink-2'}`}>{stages[o.stage]}</td>
              <td className="list-cell">{o.steps}</td>
              <td className="list-cell text-ink-2">
                <When at={o.openedAt} /> by {o.by}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
      <MovesList all title="Moves of networks" />
    </div>
  )
}

const columns: Column[] = [
  ['Number', '90px'],
  ['Title'],
  ['Ticket', '90px'],
  ['Site', '18%'],
  ['State', '140px'],
  ['Edits', '60px'],
  ['Opened', '18%'],
]
