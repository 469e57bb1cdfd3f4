import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link, useNavigate } from 'react-router'
import { api, call, problemOf, type Schemas } from '../api/client'
import { useCurrentOrder } from '../frame/currentOrder'
import { Alert } from '../parts/Alert'
import { Choice } from '../parts/Field'
import { FileLines } from '../parts/FileLines'
import { When } from '../parts/When'

/** A revision beside another, in words and as files, and the way back to either. */
export function Revision({
  code,
  item,
  zone,
  newest,
}: {
  code: string
  item: Schemas['Item']
  zone: string
  newest: number
}) {
  const client = useQueryClient()
  const navigate = useNavigate()
  const { take } = useCurrentOrder()
  const at = item.revision ?? 1
  const [from, setFrom] = useState(Math.max(at - 1, 1))
  const [to, setTo] = useState(at)
  const compared = useQuery({
    queryKey: ['compare', code, from, to],
    queryFn: () =>
      call(api.GET('/api/sites/{site}/compare', { params: { path: { site: code }, query: { from, to } } })),
  })
  const back = useMutation({
    mutationFn: (revision: number) =>
      call(
        api.POST('/api/sites/{site}/revisions/{revision}/bring-back', { params: { path: { site: code, revision } } }),
      ),
    onSuccess: async (o) => {
      take(o.id)
      await client.invalidateQueries({ queryKey: ['orders'] })
      void navigate(`/orders/${o.id}`)
    },
  })
  const options = Array.from({ length: newest }, (_, i) => ({
    value: String(newest - i),
    label: i === 0 ? `${newest}, as it stands` : String(newest - i),
  }))
  const v = compared.data
  const old = [from, to].filter((r, n, all) => r !== newest && all.indexOf(r) === n)
  return (
    <section aria-label="Revision">
      <h1>{item.title}</h1>
      <p className="text-ink-2 mt-1">
        <When at={item.at} zone={zone} />
        {item.by && `, ${item.by}`}
        {item.orderId && (
          <>
            {' · '}
            <Link className="hover:underline text-ink" to={`/orders/${item.orderId}`}>
              {item.says || 'its work order'}
            </Link>
          </>
        )}
      </p>
      {newest > 1 && (
        <div className="flex flex-wrap gap-3 mt-3">
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
      )}
      <Alert className="mt-2">{compared.error && problemOf(compared.error).message}</Alert>
      <Alert className="mt-2">{back.error && problemOf(back.error).message}</Alert>
      {newest === 1 && <p className="mt-3">It is the first revision of this site; there is none to compare it with.</p>}
      {v && newest > 1 && (
        <>
          <h2 className="mt-5">What changed</h2>
          <ul className="mt-1" aria-label="Differences">
            {v.words.map((w, n) => (
              <li key={n} className="py-1 border-b border-seam-2 [overflow-wrap:anywhere]">
                {w}
              </li>
            ))}
            {v.words.length === 0 && <li className="text-ink-2">They are the same.</li>}
          </ul>
          <p className="flex flex-wrap gap-2 mt-3">
            {old.map((r) => (
              <button key={r} className="btn" disabled={back.isPending} onClick={() => back.mutate(r)}>
                Bring back revision {r} as a work order
              </button>
            ))}
          </p>
          {v.files.length > 0 && (
            <>
              <h2 className="mt-5">The same, in the site file</h2>
              <FileLines lines={v.files} label={`The site file from revision ${from} to ${to}`} />
            </>
          )}
        </>
      )}
    </section>
  )
}
