import type { Change, Schemas, View } from '../api/client'
import type { FormSpec } from './forms'

type Props = { seen: Schemas['SeenRow']; view: View; onForm: (spec: FormSpec) => void; change: (c: Change) => void }

const label = (name: string) =>
  name
    .toLowerCase()
    .replace(/[^a-z0-9-]/g, '')
    .replace(/^-+|-+$/g, '')

/** What can be made of somebody seen: one step each, or a form where a word is needed. */
export function SeenActions({ seen: s, view, onForm, change }: Props) {
  const network = view.network!
  const here = s.network === network.id
  const name = label(s.known || (s.name ?? ''))
  const base = { network: s.network, address: s.address, mac: s.mac, name }
  const reserve = (address: string) =>
    change({ entries: [{ kind: 'reservation', id: '', new: true, fields: { ...base, address } }] })
  const pool = here && network.pools.length > 0 ? network.pools.find((p) => inside(p.ranges, s.address)) : undefined
  return (
    <div className="flex flex-wrap gap-x-3 text-[12.5px]" aria-label={`What to do about ${s.address}`} role="group">
      <button className="hover:underline" onClick={() => reserve(s.address)}>
        Reserve {tail(s.address)}
      </button>
      {here && network.nextFree && (
        <button className="hover:underline" onClick={() => reserve(network.nextFree)}>
          Reserve it at {tail(network.nextFree)} instead
        </button>
      )}
      <button
        className="hover:underline"
        onClick={() =>
          onForm({ kind: 'fixed', isNew: true, title: 'Record a fixed device', values: { ...base, note: '' } })
        }
      >
        Fixed device
      </button>
      {pool && (
        <button
          className="hover:underline"
          onClick={() =>
            onForm({
              kind: 'exclusion',
              isNew: true,
              in: `pool:${pool.id}`,
              title: 'Exclude the address',
              values: { range: s.address, reason: s.known || s.name || '', until: '' },
            })
          }
        >
          Exclude
        </button>
      )}
      <button className="hover:underline" onClick={() => onForm(known(s, name, 'Name the client'))}>
        Name
      </button>
      <button className="hover:underline" onClick={() => onForm(known(s, name, 'Ignore the client'))}>
        Ignore
      </button>
    </div>
  )
}

const known = (s: Schemas['SeenRow'], name: string, title: string): FormSpec =>
  s.knownRef
    ? { kind: 'known', id: s.knownRef.slice(6), isNew: false, title, values: { mac: s.mac, name, ignored: '' } }
    : { kind: 'known', isNew: true, title, values: { mac: s.mac, name, ignored: '' } }

const tail = (a: string) => `.${a.split('.').slice(2).join('.')}`
const number = (a: string) => a.split('.').reduce((n, octet) => n * 256 + Number(octet), 0)
const inside = (ranges: string, a: string) =>
  ranges.split(', ').some((r) => {
    const [from, to = from] = r.split(' - ')
    return number(a) >= number(from) && number(a) <= number(to)
  })
