import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect } from 'react'
import { Link, useParams, useSearchParams } from 'react-router'
import { api, call, type Schemas } from '../api/client'
import { usePageTitle } from '../frame/usePageTitle'
import { Empty } from '../parts/Empty'
import { When } from '../parts/When'
import { useRoving } from '../parts/roving'
import { Faces } from '../site/Faces'
import { Drift } from './Drift'
import { Revision } from './Revision'
import { Loading } from '../parts/Loading'

type Item = Schemas['Item']

/** What happened at a site, newest first, and beside it whichever of that is chosen. */
export function HistoryPage() {
  const { code = '' } = useParams()
  const [params, setParams] = useSearchParams()
  const client = useQueryClient()
  const frame = useQuery({
    queryKey: ['view', code, 'frame', undefined],
    queryFn: () => call(api.GET('/api/sites/{site}/frame', { params: { path: { site: code }, query: {} } })),
  })
  const happened = useQuery({
    queryKey: ['history', code, 'happened'],
    queryFn: () => call(api.GET('/api/sites/{site}/happened', { params: { path: { site: code } } })),
  })
  const list = useRoving<HTMLOListElement>()
  usePageTitle('History', frame.data?.site.name)
  const arrived = happened.data !== undefined
  // What is new stays marked while this page is open; the next look begins from here.
  useEffect(() => {
    if (!arrived) return
    void call(api.POST('/api/sites/{site}/looked', { params: { path: { site: code } } })).catch(() => undefined)
  }, [arrived, code])
  const error = happened.error ?? frame.error
  if (error) return <Empty title="The history cannot be shown" says={error.message} to="/rounds" first="Go to Rounds" />
  if (!happened.data || !frame.data) return <Loading of="History" />
  const { items } = happened.data
  const { site, devices } = frame.data
  const asked = params.get('at') ?? ''
  const asks = asked.startsWith('device:') ? undefined : items.find((i) => i.id === asked)
  const chosen = asks ?? (asked.startsWith('device:') ? undefined : (items.find((i) => i.now) ?? items[0]))
  const device = asked.startsWith('device:') ? asked.slice('device:'.length) : aboutConfig(chosen)
  const go = (at: string) => setParams(at ? { at } : {})
  return (
    <div
      className={
        'h-full grid grid-cols-[300px_minmax(0,1fr)] max-[1000px]:grid-cols-1 ' +
        'max-[1000px]:grid-rows-[auto_minmax(0,1fr)] print:block'
      }
    >
      <aside
        aria-label="What happened"
        className={
          'bg-slab border-r border-seam overflow-auto max-[1000px]:max-h-[32vh] max-[1000px]:border-b ' + 'print:hidden'
        }
      >
        <div className="px-4 pt-3.5 pb-2.5">
          <Link to={`/sites/${code}`} className="text-ink text-[14px] font-[650] hover:underline">
            {site.name}
          </Link>
          <p className="text-[12.5px] text-ink-2 mb-2.5">History, newest first</p>
          <Faces face="history" code={code} />
        </div>
        <ol {...list} aria-label="What happened, newest first">
          {items.map((i) => (
            <li key={i.id}>
              <button
                data-row
                aria-current={i === chosen ? 'true' : undefined}
                onClick={() => go(i.id)}
                className={
                  'block w-full text-left px-4 py-2.5 border-b border-seam border-l-4 ' +
                  (i === chosen ? 'bg-sheet border-l-lichen' : 'border-l-transparent hover:bg-sheet')
                }
              >
                <span className="flex justify-between gap-2">
                  <b className="font-semibold [overflow-wrap:anywhere]">{i.title}</b>
                  <span className="text-[12px] text-ink-3 shrink-0">
                    <When at={i.at} zone={site.timeZone} />
                  </span>
                </span>
                <span className="block text-[12.5px] text-ink-2 [overflow-wrap:anywhere]">
                  {i.fresh && <b className="text-ink">New. </b>}
                  {[i.says, i.by].filter(Boolean).join(', ')}
                </span>
              </button>
            </li>
          ))}
        </ol>
        {devices.some((d) => d.reached) && (
          <p className="px-4 py-3 text-[12.5px] text-ink-2">
            What was held when, and back to it:{' '}
            {devices
              .filter((d) => d.reached)
              .map((d, n) => (
                <span key={d.id}>
                  {n > 0 && ', '}
                  <button className="hover:underline mono text-ink" onClick={() => go(`device:${d.id}`)}>
                    {d.name}
                  </button>
                </span>
              ))}
          </p>
        )}
      </aside>
      <div className="bg-sheet overflow-auto px-5 max-[480px]:px-2.5 py-4 min-w-0">
        {device ? (
          <Drift
            key={device}
            code={code}
            device={device}
            zone={site.timeZone}
            onDecided={() => client.invalidateQueries({ queryKey: ['history', code] })}
          />
        ) : (
          chosen && <Chosen key={chosen.id} item={chosen} code={code} zone={site.timeZone} items={items} />
        )}
      </div>
    </div>
  )
}

/** The device whose configuration an item is about, where that is what one wants to see. */
const aboutConfig = (i?: Item) => (i && (i.kind === 'drifted' || i.kind === 'holds') ? i.device : undefined)

function Chosen({ item, code, zone, items }: { item: Item; code: string; zone: string; items: Item[] }) {
  if (item.revision) {
    const newest = Math.max(...items.map((i) => i.revision ?? 0))
    return <Revision code={code} item={item} zone={zone} newest={newest} />
  }
  return (
    <section aria-label="Chosen">
      <h1>{item.title}</h1>
      <p className="text-ink-2 mt-1">
        <When at={item.at} zone={zone} />
        {item.by && `, ${item.by}`}
      </p>
      {item.says && <p className="mt-3 [overflow-wrap:anywhere]">{item.says}</p>}
      {item.orderId && (
        <p className="mt-3">
          <Link className="btn" to={`/orders/${item.orderId}`}>
            Open the work order
          </Link>
        </p>
      )}
      {(item.kind === 'seen' || item.kind === 'server') && (
        <p className="mt-3">
          <Link
            className="btn"
            to={
              item.kind === 'seen'
                ? `/sites/${code}?network=${item.id.slice('seen:'.length)}&tab=seen`
                : `/sites/${code}?tab=seen`
            }
          >
            Show who was seen
          </Link>
        </p>
      )}
      {(item.kind === 'unread' || item.kind === 'read') && (
        <p className="mt-3">
          <Link className="btn" to={`/sites/${code}?tab=devices`}>
            Show the devices
          </Link>
        </p>
      )}
    </section>
  )
}
