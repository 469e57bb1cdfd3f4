import { useState } from 'react'
import { Link } from 'react-router'
import type { View } from '../api/client'
import { Copy } from '../parts/Copy'
import { plural } from '../parts/plural'
import { Table, type Column } from '../parts/Table'
import { useRoving } from '../parts/roving'
import { When } from '../parts/When'
import { TopologyDrawing } from './TopologyDrawing'
import type { Asked } from './pageState'
import { ReachDevice } from './ReachDevice'
import { TakeOver } from './TakeOver'

type Props = {
  view: View
  site: string
  selected: string
  onSelect: (ref: string) => void
  ask: (asked: Asked) => void
}

/** The site's devices: how they are joined, and every interface of each. */
export function DevicesTab({ view, site, selected, onSelect, ask }: Props) {
  const list = useRoving<HTMLDivElement>()
  const [reaching, setReaching] = useState('')
  const [taking, setTaking] = useState(false)
  const reached = view.devices.find((d) => d.id === reaching)
  return (
    <div className="py-2">
      <TopologyDrawing site={site} order={view.order?.id} network={view.network?.id} onSelect={onSelect} />
      <div {...list} id="list" data-place="list">
        {view.devices.map((d) => (
          <section key={d.id} className="mt-4" aria-label={`Device ${d.name}`}>
            <div data-line className="flex flex-wrap items-baseline gap-x-3">
              <h2 className="!text-ink !text-[14px]">
                <button
                  data-row
                  className="mono hover:underline"
                  aria-pressed={selected === `device:${d.id}`}
                  onClick={() => onSelect(`device:${d.id}`)}
                >
                  {d.name}
                </button>
              </h2>
              <span className="text-ink-2">{d.kind}</span>
              <span className="text-ink-3 text-[12.5px]">
                {d.problem ? (
                  <span className="text-cinnabar-ink">not read: {d.problem}</span>
                ) : d.readAt ? (
                  <>
                    read <When at={d.readAt} zone={view.site.timeZone} />
                  </>
                ) : d.reached ? (
                  'not read yet'
                ) : (
                  'pushed by hand'
                )}
              </span>
              {d.drifted > 0 && (
                <Link className="text-sand-ink hover:underline" to={`/sites/${site}/history?at=device:${d.id}`}>
                  changed, and not by Lithos: {plural(d.drifted, 'thing')}
                </Link>
              )}
              <button
                className="btn !h-[26px] ml-auto"
                onClick={() =>
                  ask({
                    kind: 'form',
                    form: { kind: 'interface', in: `device:${d.id}`, title: `Add an interface to ${d.name}` },
                  })
                }
              >
                Add an interface
              </button>
              <button className="btn !h-[26px]" onClick={() => setReaching(d.id)}>
                {d.reached ? 'How it is reached' : 'Reach it'}
              </button>
            </div>
            {d.interfaces.length === 0 && <p className="text-ink-3">It has no interface yet.</p>}
            {d.interfaces.length > 0 && (
              <div className="overflow-x-auto">
                <Table columns={columns} className="min-[641px]:min-w-[560px] mt-1">
                  <tbody>
                    {d.interfaces.map((i) => (
                      <tr
                        key={i.id}
                        onClick={() => onSelect(`interface:${i.id}`)}
                        className={
                          'cursor-pointer hover:bg-slab ' +
                          (selected === `interface:${i.id}` ? 'shadow-[inset_3px_0_var(--ink)]' : '')
                        }
                      >
                        <td className="list-cell mono">
                          <button
                            data-row
                            className="hover:underline"
                            aria-pressed={selected === `interface:${i.id}`}
                            onClick={(e) => {
                              e.stopPropagation()
                              onSelect(`interface:${i.id}`)
                            }}
                          >
                            {i.name}
                          </button>
                        </td>
                        <td className="list-cell">{i.kind}</td>
                        <td className="list-cell mono" title={i.addresses}>
                          {i.addresses && <Copy text={i.addresses} />}
                        </td>
                        <td className="list-cell" title={i.carries}>
                          {i.vlan ? `VLAN ${i.vlan}` : i.carries}
                        </td>
                        <td className="list-cell" title={i.permits || 'everything'}>
                          {i.permits || <span className="text-ink-3">everything</span>}
                        </td>
                        <td className="list-cell" title={i.leads}>
                          {i.leads}
                        </td>
                      </tr>
                    ))}
                  </tbody>
                </Table>
              </div>
            )}
          </section>
        ))}
      </div>
      {reached && (
        <ReachDevice key={reached.id} view={view} site={site} device={reached} onClose={() => setReaching('')} />
      )}
      <div className="flex flex-wrap gap-2 mt-4">
        <button className="btn" onClick={() => ask({ kind: 'form', form: { kind: 'device' } })}>
          Add a device
        </button>
        <button className="btn" onClick={() => ask({ kind: 'takeIn' })}>
          Import a list or a site file
        </button>
        {view.order && view.devices.some((d) => d.reached) && (
          <button className="btn" onClick={() => setTaking(true)}>
            Read the devices into this site
          </button>
        )}
      </div>
      {taking && <TakeOver view={view} onClose={() => setTaking(false)} />}
    </div>
  )
}

const columns: Column[] = [
  ['Interface', '88px'],
  ['Kind', '72px'],
  ['Addresses', '166px'],
  ['Carries'],
  ['Permits', '100px'],
  ['Leads to', '23%'],
]
