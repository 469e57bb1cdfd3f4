import { Link, useParams } from 'react-router'
import type { Schemas } from '../api/client'
import { Copy } from '../parts/Copy'

/** The selected network in one line. */
export function NetworkHead({ network: n }: { network: Schemas['NetworkView'] }) {
  const { code = '' } = useParams()
  return (
    <div className="flex items-baseline gap-3 flex-wrap">
      <h1>{n.name}</h1>
      <Copy text={n.prefix} className="mono !text-[14px]" />
      <span className="text-ink-2">
        {n.vlan ? `VLAN ${n.vlan}` : 'untagged'}
        {n.where ? (
          <>
            {' '}
            on <span className="mono">{n.where}</span>
          </>
        ) : (
          ', on no interface yet'
        )}
      </span>
      {n.gateway && (
        <span className="text-ink-2 ml-auto">
          gateway <Copy text={n.gateway} className="mono text-ink" />
        </span>
      )}
      <Link
        className={`underline text-ink-2 print:hidden ${n.gateway ? '' : 'ml-auto'}`}
        to={`/sites/${code}/move?network=${encodeURIComponent(n.id)}`}
      >
        Move it…
      </Link>
    </div>
  )
}
