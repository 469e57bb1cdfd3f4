import { useState } from 'react'
import { useForm } from 'react-hook-form'
import { api, call, type Schemas } from '../api/client'
import { useOrderAct } from '../api/queries'
import { Alert } from '../parts/Alert'
import { OneField } from '../site/PartForm'

type Values = Record<string, string>

/** Edits that no longer applied on a newer revision: each waits here for a decision. */
export function Lost({ lost, head }: { lost: Schemas['Lost'][]; head: Schemas['Head'] }) {
  return (
    <section
      aria-label="Edits that do not apply"
      className="border-l-3 border-sand bg-sand-t px-3 py-2 mb-4 max-w-[820px]"
    >
      <h2>{lost.length === 1 ? 'This edit does not apply here' : 'These edits do not apply here'}</h2>
      <p className="text-ink-2">Somebody else changed the same since. Decide about each before the push.</p>
      <ul>
        {lost.map((l) => (
          <One key={l.seq} lost={l} head={head} />
        ))}
      </ul>
    </section>
  )
}

/** One of them: what three saw, and whose value is taken. */
function One({ lost: l, head }: { lost: Schemas['Lost']; head: Schemas['Head'] }) {
  const { act, problem, fields, instead, busy } = useOrderAct(head.id)
  const typed = l.threes.flatMap((t) => t.another ?? [])
  const form = useForm<Values>({ defaultValues: Object.fromEntries(typed.map((f) => [f.name, f.value])) })
  const [other, setOther] = useState(false)
  const decide = (take: 'mine' | 'theirs' | 'another', other?: Values) =>
    act(() =>
      call(
        api.POST('/api/orders/{order}/decide', {
          params: { path: { order: head.id } },
          body: { version: head.version, seq: l.seq, take, fields: other },
        }),
      ),
    )
  const named = typed.some((f) => fields[f.name])
  return (
    <li className="py-2 border-t border-seam mt-2">
      <div>
        <b>{l.says}</b> <span className="text-ink-2">by {l.by}</span>
      </div>
      <div className="text-ink-2">{l.why}.</div>
      <table className="mt-1 text-[13px]">
        <thead>
          <tr className="text-left text-ink-2 align-top">
            <th className="pr-4 font-normal">
              <span className="sr-only">What</span>
            </th>
            <th className="pr-4 font-normal">before both</th>
            <th className="pr-4 font-normal">now at the site</th>
            <th className="font-normal">this edit</th>
          </tr>
        </thead>
        <tbody>
          {l.threes.map((t) => (
            <tr key={t.field}>
              <th className="pr-4 text-left font-semibold align-top">{t.field}</th>
              <td className="pr-4 mono align-top">{t.base}</td>
              <td className="pr-4 mono align-top">{t.theirs}</td>
              <td className="mono align-top">{t.mine}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <div className="flex flex-wrap gap-2 mt-1.5">
        {l.mine && (
          <button className="btn" disabled={busy} onClick={() => void decide('mine')}>
            Take this edit
          </button>
        )}
        <button className="btn" disabled={busy} onClick={() => void decide('theirs')}>
          Keep what the site has
        </button>
        {typed.length > 0 && !other && (
          <button className="btn" disabled={busy} onClick={() => setOther(true)}>
            Type another value
          </button>
        )}
      </div>
      {other && (
        <form
          aria-label="Another value"
          className="grid gap-2.5 mt-2 max-w-[420px]"
          onSubmit={(e) => void form.handleSubmit((values) => decide('another', values))(e)}
        >
          {typed.map((f, i) => (
            <OneField
              key={f.name}
              field={f}
              form={form}
              first={i === 0}
              error={fields[f.name]}
              instead={instead[f.name]}
            />
          ))}
          <div>
            <button className="btn btn-next" disabled={busy}>
              Take this value
            </button>
          </div>
        </form>
      )}
      <Alert>{!named && problem}</Alert>
    </li>
  )
}
