import { useState } from 'react'
import { Link } from 'react-router'
import { useQuery } from '@tanstack/react-query'
import { api, call, type Schemas } from '../api/client'

/** What the draft makes different, by network and device, with the site file's own words beside it. */
export function Changes({ head }: { head: Schemas['Head'] }) {
  const [open, setOpen] = useState(false)
  const changes = useQuery({
    queryKey: ['changes', head.id, head.version],
    queryFn: () => call(api.GET('/api/orders/{order}/changes', { params: { path: { order: head.id } } })),
    enabled: open,
  })
  return (
    <details className="mt-5" onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className="font-[650] cursor-pointer">What will be different</summary>
      {changes.error && (
        <p role="alert" className="text-cinnabar-ink">
          {changes.error.message}
        </p>
      )}
      {changes.data?.length === 0 && <p className="text-ink-2">Nothing.</p>}
      {changes.data?.map((g) => (
        <section key={g.kind + g.name} className="mt-2">
          <h3>
            {g.name} <span className="font-normal text-ink-3 text-[12.5px]">{g.kind}</span>
          </h3>
          <ul>
            {g.items.map((c, i) => (
              <li key={i} className="py-1 border-b border-seam-2">
                {c.says}
                <details>
                  <summary className="text-[12.5px] text-ink-2 cursor-pointer">In the site file</summary>
                  <div className="grid grid-cols-2 gap-2 max-[560px]:grid-cols-1">
                    <Part title="Before" value={c.before} />
                    <Part title="After" value={c.after} />
                  </div>
                </details>
              </li>
            ))}
          </ul>
        </section>
      ))}
    </details>
  )
}

function Part({ title, value }: { title: string; value: unknown }) {
  return (
    <div className="min-w-0">
      <div className="text-[12px] text-ink-3">{title}</div>
      <pre tabIndex={0} className="mono text-[11.5px] overflow-x-auto bg-slab p-1.5" aria-label={`${title}, as JSON`}>
        {value === undefined || value === null ? 'not there' : JSON.stringify(value, null, 2)}
      </pre>
    </div>
  )
}

/** Other open orders of the site, and the parts that both touch. */
export function Others({ others }: { others: Schemas['OtherOrder'][] }) {
  if (others.length === 0) return null
  return (
    <section className="mt-5">
      <h2>Also open at this site</h2>
      <ul>
        {others.map((o) => (
          <li key={o.id} className="py-1 border-b border-seam-2">
            <Link className="hover:underline font-semibold" to={`/orders/${o.id}`}>
              {o.name}
            </Link>{' '}
            {o.title} <span className="text-ink-2">by {o.by}</span>
            {o.both.length > 0 && <div className="text-sand-ink text-[12.5px]">Both touch {o.both.join(', ')}.</div>}
          </li>
        ))}
      </ul>
    </section>
  )
}
