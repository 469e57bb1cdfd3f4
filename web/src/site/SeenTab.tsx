import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, call, type Change, type Schemas, type View } from '../api/client'
import { Copy } from '../parts/Copy'
import { When } from '../parts/When'
import type { FormSpec } from './forms'
import { SeenActions } from './SeenActions'

type Props = { view: View; site: string; onForm: (spec: FormSpec) => void; change: (c: Change) => void }

/** Leases and neighbours, as the devices last told them, of the network or the whole site. */
export function SeenTab({ view, site, onForm, change }: Props) {
  const [whole, setWhole] = useState(false)
  const [only, setOnly] = useState(false)
  const network = view.network!
  const zone = view.site.timeZone
  const all = useQuery({
    queryKey: ['view', site, 'seen', view.order?.id],
    enabled: whole,
    queryFn: () =>
      call(api.GET('/api/sites/{site}/seen', { params: { path: { site }, query: { order: view.order?.id } } })),
  })
  const rows = ((whole && all.data?.seen) || network.seen).filter(
    (s) => !only || s.remarks.some((r) => r.kind !== 'ignored'),
  )
  return (
    <>
      <div className="flex gap-4 mt-2 items-center">
        <label className="inline-flex gap-1.5 items-center min-h-[24px]">
          <input type="checkbox" checked={whole} onChange={() => setWhole(!whole)} /> The whole site
        </label>
        <label className="inline-flex gap-1.5 items-center min-h-[24px]">
          <input type="checkbox" checked={only} onChange={() => setOnly(!only)} /> Only problems
        </label>
      </div>
      {rows.length === 0 ? (
        <p className="p-4 text-ink-2">
          {only
            ? 'Nothing here needs a look.'
            : 'No device has told of anybody here yet. Leases and neighbours appear a few seconds after a device hears them.'}
        </p>
      ) : (
        <table className="table-fixed mt-1 min-w-[620px]">
          <thead>
            <tr>
              <th className="list-head w-[130px]">Address</th>
              <th className="list-head">Name and port</th>
              <th className="list-head w-[158px]">MAC</th>
              <th className="list-head w-[92px]">First</th>
              <th className="list-head w-[84px]">Last</th>
              <th className="list-head w-[84px]">Ends</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((s) => (
              <SeenLine
                key={`${s.address}${s.mac}`}
                seen={s}
                zone={zone}
                view={view}
                onForm={onForm}
                change={change}
                whole={whole}
              />
            ))}
          </tbody>
        </table>
      )}
    </>
  )
}

function SeenLine({
  seen: s,
  zone,
  view,
  onForm,
  change,
  whole,
}: { seen: Schemas['SeenRow']; zone: string; whole: boolean } & Omit<Props, 'site'>) {
  const grave = s.remarks.some((r) => ['cloned', 'contested', 'in pool'].includes(r.kind))
  return (
    <>
      <tr className={`${s.live ? '' : 'text-ink-3'} ${grave ? 'bg-sand-t' : ''}`}>
        <td className="list-cell mono">
          <Copy text={s.address} />
        </td>
        <td className="list-cell leading-[17px] py-1">
          {s.known || s.name || <span className="text-ink-2">no name</span>}
          <div className="text-ink-2 text-[12px]">{[s.port, whole && s.networkName].filter(Boolean).join(' · ')}</div>
        </td>
        <td className="list-cell mono">
          <Copy text={s.mac} />
        </td>
        <td className="list-cell">
          <When at={s.first} zone={zone} />
        </td>
        <td className="list-cell">
          <When at={s.last} zone={zone} />
        </td>
        <td className="list-cell">
          {s.source === 'lease' && s.expires ? s.live ? <When at={s.expires} zone={zone} /> : 'ended' : 'no lease'}
        </td>
      </tr>
      {(s.remarks.length > 0 || !s.ref) && (
        <tr className={grave ? 'bg-sand-t' : ''}>
          <td colSpan={6} className="px-2.5 pb-1.5 border-b border-seam-2 text-[13px]">
            {s.remarks.map((r) => (
              <p key={r.kind}>
                <b>{titles[r.kind]}.</b> {r.says}
              </p>
            ))}
            {!s.ref && <SeenActions seen={s} view={view} onForm={onForm} change={change} />}
          </td>
        </tr>
      )}
    </>
  )
}

const titles: Record<string, string> = {
  unrecorded: '○ Unrecorded',
  'in pool': '▲ In the pool without a lease',
  cloned: '▲ One MAC in two places',
  contested: '▲ Two machines on one address',
  randomised: '~ Made-up MAC',
  ignored: '– Ignored',
  elsewhere: '→ Elsewhere',
}
