import { Link } from 'react-router'
import { useHistory } from '../api/queries'
import { When } from '../parts/When'

/** The revisions of a site, newest first, with what a push landed without proof. */
export function History({ site, zone }: { site: string; zone?: string }) {
  const history = useHistory(site)
  if (history.error)
    return (
      <div role="alert" className="text-cinnabar-ink mt-4">
        {history.error.message}
      </div>
    )
  if (!history.data) return null
  return (
    <section aria-label="History" className="mt-5">
      <h2>History</h2>
      <ol>
        {history.data.slice(0, 12).map((r) => (
          <li key={r.revision} className="py-1.5 border-b border-seam-2">
            <span className="mono text-ink-2">{r.revision}</span>{' '}
            {r.orderId ? (
              <Link className="hover:underline" to={`/orders/${r.orderId}`}>
                {r.order} {r.note}
              </Link>
            ) : (
              r.note
            )}
            <div className="text-[12px] text-ink-3">
              {r.by && `${r.by}, `}
              <When at={r.at} zone={zone} />
            </div>
            {r.unverified.map((u) => (
              <div key={u} className="text-[12px] text-sand-ink">
                {u}
              </div>
            ))}
          </li>
        ))}
      </ol>
    </section>
  )
}
