import { Link } from 'react-router'
import { plural } from '../parts/plural'
import { useRoving } from '../parts/roving'
import { useOpenRow } from '../parts/rows'
import { Table, type Column } from '../parts/Table'
import { When } from '../parts/When'
import { clock } from './Night'
import { useMoves } from './useMove'

const columns: Column[] = [['Move'], ['Site', '21%'], ['Phases', '19%'], ['Next', '22%'], ['Begun', '18%']]

const states: Record<string, string> = { done: 'done', back: 'undone', dropped: 'dropped' }

/** Moves of networks: those under way, or all of them. */
export function MovesList({ all, title }: { all?: boolean; title: string }) {
  const moves = useMoves()
  const open = useOpenRow()
  const list = useRoving<HTMLTableSectionElement>()
  const shown = (moves.data ?? []).filter((m) => all || m.state === 'open')
  if (shown.length === 0) return null
  return (
    <section aria-label={title} className="mt-5">
      <h2>{title}</h2>
      <Table columns={columns} className="mt-1">
        <tbody {...list}>
          {shown.map((m) => (
            <tr key={m.id} {...open(`/moves/${m.id}`)}>
              <td className="list-cell">
                <Link data-row className="font-semibold hover:underline" to={`/moves/${m.id}`}>
                  {m.title}
                </Link>
              </td>
              <td className="list-cell">{m.name}</td>
              <td className="list-cell">
                {m.state === 'open' ? `${m.landed} of ${plural(m.phases, 'phase')} landed` : states[m.state]}
              </td>
              <td className="list-cell text-ink-2">
                {m.next && (
                  <>
                    {m.next}
                    {m.nextAt && `, ${clock(m.nextAt)}`}
                  </>
                )}
              </td>
              <td className="list-cell text-ink-2">
                <When at={m.at} /> by {m.by}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </section>
  )
}
