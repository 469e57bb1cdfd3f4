import { Table, type Column } from '../parts/Table'
import { When } from '../parts/When'
import type { Move } from './useMove'

type Straggler = Move['after']['old'][number]

const columns = (last: string): Column[] => [
  ['Machine', '24%'],
  ['Is at', '18%'],
  ['Should be at', '18%'],
  ['Plugged in'],
  [last, '18%'],
]

const askers: Column[] = [['Machine', '24%'], ['Is at', '18%'], ['Asks'], ['Its lease lasts', '18%']]

/** After the night: who did not follow. */
export function Stragglers({ move }: { move: Move }) {
  const { after } = move
  const none = after.old.length + after.other.length + after.leases.length + after.unrenewed.length === 0
  return (
    <section aria-label="Still at old addresses" className="mt-4">
      <h2>{move.back ? 'Still at new addresses' : 'Still at old addresses'}</h2>
      {none && after.swapped && (
        <p className="mt-1 text-malachite-ink">
          Since {move.back ? 'it was undone' : 'the swap'}, <When at={after.swapped} zone={move.zone} />, nobody was
          seen at {move.back ? 'an address of the move' : 'an old address'}.
        </p>
      )}
      <List
        title={move.back ? 'Still at an address of the move' : 'Still at an old address'}
        rows={after.old}
        zone={move.zone}
      />
      <List title="Back with another address than they should have" rows={after.other} zone={move.zone} />
      <List
        title="Hold a lease of an address that is no more, and ask its server yet"
        rows={after.leases}
        zone={move.zone}
      />
      <List
        title="Were told a server that has moved, and have not renewed since"
        rows={after.unrenewed}
        zone={move.zone}
        asks
      />
    </section>
  )
}

function List(props: { title: string; rows: Straggler[]; zone: string; asks?: boolean }) {
  const { title, rows, zone, asks } = props
  if (rows.length === 0) return null
  return (
    <>
      <h3 className="mt-2 font-semibold text-cinnabar-ink">
        {title}: {rows.length}
      </h3>
      <Table columns={asks ? askers : columns(rows[0]?.until ? 'Its lease lasts' : 'Seen')}>
        <tbody>
          {rows.map((r) => (
            <tr key={r.mac + r.address}>
              <td className="list-cell" title={r.mac}>
                {r.name}
              </td>
              <td className="list-cell mono">{r.address}</td>
              {asks ? (
                <td className="list-cell">
                  {r.servers?.map((s) => (
                    <span key={s.option + s.was} className="block">
                      {s.option} <span className="mono">{s.was}</span>, now <span className="mono">{s.will}</span>
                    </span>
                  ))}
                </td>
              ) : (
                <>
                  <td className="list-cell mono">{r.should}</td>
                  <td className="list-cell text-ink-2">{r.at}</td>
                </>
              )}
              <td className="list-cell text-ink-2">
                {r.until ? (
                  <>
                    until <When at={r.until} zone={zone} clock />
                  </>
                ) : (
                  <When at={r.seen} zone={zone} />
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </>
  )
}
