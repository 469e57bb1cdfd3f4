import { useMutation, useQueryClient } from '@tanstack/react-query'
import { api, call, problemOf, type Schemas } from '../api/client'
import { announce } from '../parts/announce'
import { SmallButton } from '../parts/SmallButton'
import { When } from '../parts/When'

/** Findings that somebody has said are meant so: counted, each with why, and the way to have it shown again. */
export function MeantList({ of, site, zone }: { of: Schemas['Meant'][]; site: string; zone: string }) {
  const client = useQueryClient()
  const again = useMutation({
    mutationFn: (id: string) =>
      call(api.DELETE('/api/sites/{site}/meant/{finding}', { params: { path: { site, finding: id } } })),
    onSuccess: async () => {
      announce('It is shown again')
      await client.invalidateQueries()
    },
  })
  if (of.length === 0) return null
  return (
    <details className="mt-2.5 text-[13px]">
      <summary className="cursor-pointer text-ink-2">{of.length} meant so</summary>
      <ul>
        {of.map((m) => (
          <li key={m.id} className="border-l-3 border-seam pl-2.5 mt-1.5">
            <b className="font-semibold">{m.title}</b>
            <p>{m.reason}</p>
            <p className="text-ink-2">
              {m.by}, <When at={m.at} zone={zone} />
              {m.until && `, until ${m.until.slice(0, 10)}`}.{' '}
              <SmallButton disabled={again.isPending} onClick={() => again.mutate(m.id)}>
                Show it again
              </SmallButton>
            </p>
          </li>
        ))}
      </ul>
      {again.error && (
        <p role="alert" className="text-cinnabar-ink">
          {problemOf(again.error).message}
        </p>
      )}
    </details>
  )
}
