import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { api, call, problemOf } from '../api/client'
import { Alert } from '../parts/Alert'
import { SmallButton } from '../parts/SmallButton'
import { plural } from '../parts/plural'

/** The archived sites, folded until somebody looks for one. */
export function Archived() {
  const client = useQueryClient()
  const away = useQuery({
    queryKey: ['sites', 'away'],
    queryFn: () => call(api.GET('/api/sites', { params: { query: { archived: true } } })),
  })
  const back = useMutation({
    mutationFn: (site: string) =>
      call(api.POST('/api/sites/{site}/archive', { params: { path: { site } }, body: { away: false } })),
    onSettled: () => client.invalidateQueries({ queryKey: ['sites'] }),
  })
  if (!away.data || away.data.length === 0) return null
  return (
    <details className="mt-6">
      <summary className="cursor-pointer text-ink-2">{plural(away.data.length, 'archived site')}</summary>
      <Alert className="mt-2">{back.error && problemOf(back.error).message}</Alert>
      <ul className="mt-2">
        {away.data.map((s) => (
          <li key={s.code} className="flex items-baseline gap-3 py-1 border-b border-seam-2">
            <span className="font-semibold">{s.name}</span>
            <span className="text-ink-2">{s.customer}</span>
            <span className="mono text-ink-2">{s.block}</span>
            <SmallButton
              className="ml-auto"
              disabled={back.isPending}
              aria-label={`Bring back ${s.name}`}
              onClick={() => back.mutate(s.code)}
            >
              Bring back
            </SmallButton>
          </li>
        ))}
      </ul>
    </details>
  )
}
