import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { api, call, problemOf } from '../api/client'
import { Alert } from '../parts/Alert'
import { Field } from '../parts/Field'
import { SmallButton } from '../parts/SmallButton'
import { When } from '../parts/When'

/** Who had an address, a name or a network of the site, and from when to when. */
export function Ownership({ site, zone }: { site: string; zone?: string }) {
  const [of, setOf] = useState('')
  const asked = useMutation({
    mutationFn: () => call(api.GET('/api/sites/{site}/ownership', { params: { path: { site }, query: { of } } })),
  })
  const problem = asked.error ? problemOf(asked.error) : undefined
  return (
    <section aria-label="Who had it" className="mt-5">
      <h2>Who had it?</h2>
      <form
        className="grid grid-cols-[1fr_auto] gap-2 items-start mt-1"
        onSubmit={(e) => {
          e.preventDefault()
          asked.mutate()
        }}
      >
        <Field
          label="Address, prefix or name"
          mono
          value={of}
          error={problem?.fields.of}
          onChange={(e) => setOf(e.target.value)}
        />
        <SmallButton type="submit" className="mt-[23px]" disabled={asked.isPending}>
          Look up
        </SmallButton>
      </form>
      <Alert className="mt-2">{problem && !problem.fields.of && problem.message}</Alert>
      <div role="status">
        <ol className="mt-1 text-[13px]">
          {(asked.data?.seen ?? []).map((s) => (
            <li key={s.mac + s.from + s.sure} className="py-1.5 border-b border-seam-2 [overflow-wrap:anywhere]">
              {s.name && `${s.name} · `}
              <span className="mono">{s.mac}</span>
              {` at ${s.address}`}
              {s.port && `, on ${s.port}`}
              <div className="text-[12px] text-ink-3">
                <Span from={s.from} until={s.until} zone={zone} /> · {s.sure}
              </div>
            </li>
          ))}
          {(asked.data?.recorded ?? []).map((s) => (
            <li key={s.revision} className="py-1.5 border-b border-seam-2 [overflow-wrap:anywhere]">
              {s.owners.length > 0 ? s.owners.join(' · ') : <span className="text-ink-2">nobody recorded</span>}
              <div className="text-[12px] text-ink-3">
                <Span from={s.from} until={s.until} zone={zone} />
                {` · recorded in revision ${s.revision}`}
                {s.by && `, ${s.by}`}
              </div>
            </li>
          ))}
        </ol>
      </div>
    </section>
  )
}

/** From when to when. */
function Span({ from, until, zone }: { from: string; until?: string; zone?: string }) {
  return (
    <>
      from <When at={from} zone={zone} />
      {until ? (
        <>
          {' '}
          until <When at={until} zone={zone} />
        </>
      ) : (
        ', now'
      )}
    </>
  )
}
