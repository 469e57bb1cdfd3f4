import { Link } from 'react-router'
import { useHistory } from '../api/queries'
import { When } from '../parts/When'

const shown = 8

/** The newest revisions of a site, with what a push landed without proof, and the way to all that happened there. */
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
        {history.data.slice(0, shown).map((r) => (
          <li key={r.revision} className="py-1.5 border-b border-seam-2">
            <span className="mono text-ink-2">{r.revision}</span>{' '}
            <Link
              className="hover:underline"
              aria-label={`Revision ${r.revision}: ${[r.order, r.note].filter(Boolean).join(' ')}`}
              to={`/sites/${site}/history?at=revision:${r.revision}`}
            >
              {[r.order, r.note].filter(Boolean).join(' ')}
            </Link>
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
      <Link className="btn !h-[26px] mt-2" to={`/sites/${site}/history`}>
        All that happened here
      </Link>
    </section>
  )
}
