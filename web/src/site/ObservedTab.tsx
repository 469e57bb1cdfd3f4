import { useQuery } from '@tanstack/react-query'
import type { ReactNode } from 'react'
import { useRoving } from '../parts/roving'
import { api, call, type Change, type Schemas, type View } from '../api/client'
import { Copy } from '../parts/Copy'
import { Toolbar } from '../parts/Toolbar'
import { Table, type Column } from '../parts/Table'
import { Ends, When } from '../parts/When'
import { Actions } from './Actions'
import type { Asked } from './pageState'
import { useInAddress, useSwitchInAddress } from '../parts/useInAddress'

type Props = {
  view: View
  network: Schemas['NetworkView']
  site: string
  busy: boolean
  ask: (asked: Asked) => void
  change: (c: Change) => void
}

/** Leases and neighbours, as the devices last told them, of the network or the whole site. */
export function ObservedTab({ view, network, site, busy, ask, change }: Props) {
  const [whole, setWhole] = useSwitchInAddress('whole')
  const [only, setOnly] = useSwitchInAddress('problems')
  const [filter, setFilter] = useInAddress('seen')
  const list = useRoving<HTMLDivElement>()
  const zone = view.site.timeZone
  const all = useQuery({
    queryKey: ['view', site, 'seen', view.order?.id],
    enabled: whole,
    queryFn: () =>
      call(api.GET('/api/sites/{site}/observed', { params: { path: { site }, query: { order: view.order?.id } } })),
  })
  const rows = ((whole && all.data?.seen) || network.seen).filter(
    (s) =>
      (!only || s.remarks.some((r) => r.kind !== 'ignored')) &&
      `${s.address} ${s.mac} ${s.known} ${s.name ?? ''} ${s.port ?? ''} ${s.device} ${s.networkName}`
        .toLowerCase()
        .includes(filter.toLowerCase()),
  )
  return (
    <>
      <div className="flex flex-wrap gap-x-4 gap-y-1 mt-2 items-center">
        <label className="inline-flex gap-1.5 items-center min-h-[24px]">
          <input type="checkbox" checked={whole} onChange={() => setWhole(!whole)} /> The whole site
        </label>
        <label className="inline-flex gap-1.5 items-center min-h-[24px]">
          <input type="checkbox" checked={only} onChange={() => setOnly(!only)} /> Only problems
        </label>
        <input
          aria-label="Filter what was seen"
          placeholder="Filter"
          value={filter}
          onChange={(e) => setFilter(e.target.value)}
          className="field !h-[28px] !w-[170px] ml-auto"
        />
      </div>
      {rows.length === 0 ? (
        <p className="p-4 text-ink-2">
          {filter && (whole ? all.data?.seen : network.seen)?.length
            ? 'Nobody seen here matches the filter.'
            : only
              ? 'Nothing here needs attention.'
              : 'No device has told of anybody here yet. Leases and neighbours appear a few seconds after a ' +
                'device hears them.'}
        </p>
      ) : (
        <div {...list} id="list" data-place="list" className="overflow-x-auto">
          <Table columns={columns} className="mt-1 min-[641px]:min-w-[620px]">
            {rows.map((s) => (
              <SeenLine key={`${s.address}${s.mac}`} seen={s} zone={zone} whole={whole}>
                <Actions actions={s.actions} busy={busy} ask={ask} change={change} />
              </SeenLine>
            ))}
          </Table>
        </div>
      )}
    </>
  )
}

const columns: Column[] = [
  ['Address', '130px'],
  ['Name and port'],
  ['MAC', '158px'],
  ['First', '92px'],
  ['Last', '84px'],
  ['Ends', '84px'],
]

/** Somebody seen. What can be done about them shows on the line that has the pointer or the keyboard focus. */
function SeenLine({
  seen: s,
  zone,
  whole,
  children,
}: {
  seen: Schemas['SeenRow']
  zone: string
  whole: boolean
  children: ReactNode
}) {
  const grave = s.remarks.some((r) => r.grave)
  return (
    <tbody data-line className={`group hover:bg-slab ${grave ? 'bg-sand-t' : ''}`}>
      <tr className={s.live ? '' : 'text-ink-3'}>
        <td className="list-cell mono !border-b-0">
          <Copy row text={s.address} />
        </td>
        <td className="list-cell leading-[17px] py-1 !border-b-0">
          {s.known || s.name ? <Copy text={s.known || (s.name ?? '')} /> : <span className="text-ink-2">no name</span>}
          <div className="text-ink-2 text-[12px]">{[s.port, whole && s.networkName].filter(Boolean).join(' · ')}</div>
        </td>
        <td className="list-cell mono !border-b-0">
          <Copy text={s.mac} />
        </td>
        <td className="list-cell !border-b-0">
          <When at={s.first} zone={zone} />
        </td>
        <td className="list-cell !border-b-0">
          <When at={s.last} zone={zone} />
        </td>
        <td className="list-cell !border-b-0">
          {s.source === 'lease' && s.expires ? s.live ? <Ends at={s.expires} zone={zone} /> : 'ended' : 'no lease'}
        </td>
      </tr>
      <tr>
        <td colSpan={6} className="px-2.5 pb-1 border-b border-seam-2 text-[13px]">
          <div className="flex items-start gap-3">
            <div className="flex-1">
              {s.remarks.map((r) => (
                <p key={r.kind}>
                  <b>
                    {glyphs[r.kind]} {r.title}.
                  </b>{' '}
                  {r.says}
                </p>
              ))}
            </div>
            {s.actions.length > 0 && (
              <Toolbar
                label={`What to do about ${s.address}`}
                className={
                  'justify-end max-w-[55%] opacity-0 group-hover:opacity-100 group-focus-within:opacity-100 ' +
                  '[@media(hover:none)]:opacity-100'
                }
              >
                {children}
              </Toolbar>
            )}
          </div>
        </td>
      </tr>
    </tbody>
  )
}

const glyphs: Record<string, string> = {
  unrecorded: '○',
  'in pool': '▲',
  cloned: '▲',
  contested: '▲',
  randomised: '~',
  ignored: '–',
  elsewhere: '→',
  'left over': '–',
}
