import { useQuery } from '@tanstack/react-query'
import { api, call, type Schemas, type View } from '../api/client'

/** Says of a link to something that is not there any more what it was, since when it is gone, and what is nearest. */
export function GoneNote({
  code,
  look,
  view,
  go,
}: {
  code: string
  look: Schemas['Look']
  view: View
  go: (to: { network?: string; select?: string }) => void
}) {
  // What is drawn in the place of an unknown network is another one.
  const dead =
    look.network && view.network && view.network.id !== look.network ? `network:${look.network}` : look.select
  const asked = useQuery({
    queryKey: ['gone', code, look.order, dead, view.order?.version],
    enabled: !!dead && /^[a-z-]+:/.test(dead) && !dead.startsWith('seen:'),
    queryFn: () =>
      call(
        api.GET('/api/sites/{site}/gone', {
          params: { path: { site: code }, query: { order: look.order, part: dead } },
        }),
      ),
  })
  const gone = asked.data
  if (!gone?.gone) return null
  const near = gone.network ? view.layers.find((l) => l.id === gone.network) : undefined
  return (
    <div role="status" className="bg-sand-t text-sand-ink border-l-3 border-sand px-3 py-2 mb-2.5">
      {gone.says}{' '}
      {near && (
        <button className="underline" onClick={() => go({ network: near.id, select: gone.select ?? '' })}>
          Go to {near.name}
          {gone.nearest && `: ${gone.nearest}`}
        </button>
      )}
    </div>
  )
}
