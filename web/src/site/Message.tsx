import { useState } from 'react'
import type { Schemas } from '../api/client'

/** One DHCP message: who sent it, each option decoded, and its octets with every option marked. */
export function MessageCard({ message: m, open = false }: { message: Schemas['Message']; open?: boolean }) {
  const [bytes, setBytes] = useState(open)
  const fromClient = m.from === 'client'
  return (
    <li className={`border border-seam rounded-sm ${fromClient ? 'mr-10' : 'ml-10'}`}>
      <div className="flex items-baseline gap-3 px-3 py-1.5 bg-slab border-b border-seam-2">
        <b className="uppercase text-[12px] tracking-wide">{m.type}</b>
        <span className="text-ink-2 text-[12.5px]">
          {fromClient ? 'client → server' : 'server → client'}
          {m.yourAddress && (
            <>
              {' '}
              · your address <span className="mono text-ink">{m.yourAddress}</span>
            </>
          )}
          {m.bootFile && (
            <>
              {' '}
              · boots <span className="mono text-ink">{m.bootFile}</span>
              {m.nextServer && (
                <>
                  {' '}
                  from <span className="mono text-ink">{m.nextServer}</span>
                </>
              )}
            </>
          )}
        </span>
        <button
          className="ml-auto text-[12.5px] text-ink-2 hover:underline"
          aria-expanded={bytes}
          onClick={() => setBytes(!bytes)}
        >
          {m.size} octets{m.accepts ? ` of ${m.accepts}` : ''}
        </button>
      </div>
      {m.why && <p className="px-3 pt-1.5 text-[13px]">{m.why}</p>}
      <dl className="px-3 py-1.5 grid grid-cols-[38px_190px_1fr] gap-y-0.5 text-[13px]">
        {m.options.map((o, i) => (
          <div key={`${o.code}${i}`} className="contents">
            <dt className="mono text-ink-3">{o.code}</dt>
            <dt className="text-ink-2">{o.name}</dt>
            <dd className="mono [overflow-wrap:anywhere]">
              {o.parts?.length
                ? o.parts.map((p, k) => (
                    <div key={k} title={`sub-option ${p.code}`}>
                      <span className="text-ink-3">
                        {p.enterprise ? `${p.enterprise} · ` : ''}
                        {p.code}
                      </span>{' '}
                      {p.name && <span className="font-sans text-ink-2">{p.name} </span>}
                      {p.value}
                    </div>
                  ))
                : o.value}
            </dd>
          </div>
        ))}
      </dl>
      {bytes && <Octets message={m} />}
    </li>
  )
}

/** The octets, sixteen a line; options alternate in tint and say their name when pointed at. */
function Octets({ message: m }: { message: Schemas['Message'] }) {
  const octets = m.bytes.match(/../g) ?? []
  const names = Object.fromEntries(m.options.map((o) => [o.code, o.name]))
  const of = (at: number) => m.marks.findIndex((k) => at >= k.from && at < k.to)
  const lines = Array.from({ length: Math.ceil(octets.length / 16) }, (_, i) => i * 16)
  return (
    <div className="px-3 pb-2">
      <p className="text-[12px] text-ink-3">
        Header to 236, cookie to 240, then options; each is its code, its length and its value.
        {m.marks.some((k) => k.field !== 'options') && ' Some lie in the header’s file and sname fields (overload).'}
      </p>
      <div
        className="mono text-[11.5px] leading-[18px] overflow-x-auto relative"
        tabIndex={0}
        aria-label="The message's octets"
        role="group"
      >
        {lines.map((from) => (
          <div key={from} className="whitespace-pre">
            <span className="text-ink-3">{from.toString(16).padStart(4, '0')} </span>
            {octets.slice(from, from + 16).map((o, i) => {
              const mark = of(from + i)
              const k = m.marks[mark]
              return k ? (
                <span
                  key={i}
                  title={`${k.code} ${names[k.code] ?? ''}, octet ${from + i}`}
                  className={mark % 2 ? 'bg-malachite-t' : 'bg-sand-t'}
                >
                  {o}{' '}
                </span>
              ) : (
                <span key={i}>{o} </span>
              )
            })}
          </div>
        ))}
      </div>
    </div>
  )
}
