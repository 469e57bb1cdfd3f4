import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link, useNavigate } from 'react-router'
import { api, call, problemOf } from '../api/client'
import { useHistory } from '../api/queries'
import { Alert } from '../parts/Alert'
import { Choice } from '../parts/Field'
import { SmallButton } from '../parts/SmallButton'
import { When } from '../parts/When'
import { Window } from '../parts/Window'

/** The revisions of a site, newest first, with what a push landed without proof. */
export function History({ site, zone }: { site: string; zone?: string }) {
  const history = useHistory(site)
  const [shown, setShown] = useState(12)
  const [compared, setCompared] = useState<number>()
  if (history.error)
    return (
      <div role="alert" className="text-cinnabar-ink mt-4">
        {history.error.message}
      </div>
    )
  if (!history.data) return null
  const head = history.data[0]?.revision ?? 0
  return (
    <section aria-label="History" className="mt-5">
      <h2>History</h2>
      <ol>
        {history.data.slice(0, shown).map((r) => (
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
              {head > 1 && (
                <>
                  {' · '}
                  <button
                    className="hover:underline text-ink-2"
                    aria-label={`What changed at revision ${r.revision}`}
                    onClick={() => setCompared(r.revision)}
                  >
                    What changed
                  </button>
                </>
              )}
            </div>
            {r.unverified.map((u) => (
              <div key={u} className="text-[12px] text-sand-ink">
                {u}
              </div>
            ))}
          </li>
        ))}
      </ol>
      {history.data.length > shown && (
        <SmallButton className="mt-2" onClick={() => setShown(shown + 50)}>
          Older ones
        </SmallButton>
      )}
      {compared !== undefined && (
        <Compare site={site} at={compared} head={head} onClose={() => setCompared(undefined)} />
      )}
    </section>
  )
}

/** Two revisions of a site beside each other, in words, and the way back to the older. */
function Compare({ site, at, head, onClose }: { site: string; at: number; head: number; onClose: () => void }) {
  const client = useQueryClient()
  const navigate = useNavigate()
  const [from, setFrom] = useState(at > 1 ? at - 1 : 1)
  const [to, setTo] = useState(at > 1 ? at : head)
  const compared = useQuery({
    queryKey: ['compare', site, from, to],
    queryFn: () => call(api.GET('/api/sites/{site}/compare', { params: { path: { site }, query: { from, to } } })),
  })
  const back = useMutation({
    mutationFn: () =>
      call(
        api.POST('/api/sites/{site}/revisions/{revision}/bring-back', { params: { path: { site, revision: from } } }),
      ),
    onSuccess: async (o) => {
      await client.invalidateQueries({ queryKey: ['orders'] })
      void navigate(`/orders/${o.id}`)
    },
  })
  const options = Array.from({ length: head }, (_, i) => ({
    value: String(head - i),
    label: i === 0 ? `${head}, as it stands` : String(head - i),
  }))
  return (
    <Window title="What changed" open onClose={onClose} wide>
      <div className="grid grid-cols-2 gap-3 mt-3">
        <Choice
          label="From revision"
          options={options}
          value={String(from)}
          onChange={(e) => setFrom(Number(e.target.value))}
        />
        <Choice
          label="To revision"
          options={options}
          value={String(to)}
          onChange={(e) => setTo(Number(e.target.value))}
        />
      </div>
      <Alert className="mt-2">{compared.error && problemOf(compared.error).message}</Alert>
      <Alert className="mt-2">{back.error && problemOf(back.error).message}</Alert>
      {compared.data && (
        <ul className="mt-3 max-h-[46vh] overflow-auto" aria-label="Differences" tabIndex={0}>
          {compared.data.words.map((w, n) => (
            <li key={n} className="py-1 border-b border-seam-2 [overflow-wrap:anywhere]">
              {w}
            </li>
          ))}
          {compared.data.words.length === 0 && <li className="text-ink-2">They are the same.</li>}
        </ul>
      )}
      <span className="flex justify-end gap-2 mt-4">
        <button className="btn" onClick={onClose}>
          Close
        </button>
        {from !== head && (
          <button className="btn btn-next" disabled={back.isPending} onClick={() => back.mutate()}>
            Bring back revision {from} as a work order
          </button>
        )}
      </span>
    </Window>
  )
}
