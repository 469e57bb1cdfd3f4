import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, call, problemOf, type Finding } from '../api/client'
import { announce } from './announce'
import { Field } from './Field'

/** The way to say that a finding is meant so, with why and until when. */
export function MeantSo({ finding, at }: { finding: Finding; at: { site: string; order?: number } }) {
  const [open, setOpen] = useState(false)
  const [reason, setReason] = useState('')
  const [until, setUntil] = useState('')
  const client = useQueryClient()
  const say = useMutation({
    mutationFn: () =>
      call(
        api.POST('/api/sites/{site}/meant', {
          params: { path: { site: at.site } },
          body: { finding: finding.id, reason, until: until || undefined, order: at.order },
        }),
      ),
    onSuccess: async () => {
      announce(`Noted that it is meant so: ${finding.title}`)
      setOpen(false)
      await client.invalidateQueries()
    },
  })
  const wrong = say.error ? problemOf(say.error) : undefined
  if (!open)
    return (
      <button className="block mt-1 text-ink-2 hover:underline" onClick={() => setOpen(true)}>
        Meant so…
      </button>
    )
  return (
    <form
      className="mt-2 grid gap-1.5"
      aria-label={`Why ${finding.title} is meant so`}
      onSubmit={(e) => {
        e.preventDefault()
        say.mutate()
      }}
    >
      <Field
        label="Why it is meant so"
        value={reason}
        maxLength={300}
        error={wrong?.fields.reason}
        onChange={(e) => setReason(e.target.value)}
      />
      <Field
        label="Until"
        hint="A day, for example 2027-03-31; empty until something about it changes"
        mono
        value={until}
        maxLength={10}
        error={wrong?.fields.until}
        onChange={(e) => setUntil(e.target.value)}
      />
      {wrong && !wrong.fields.reason && !wrong.fields.until && (
        <p role="alert" className="text-cinnabar-ink">
          {wrong.message}
        </p>
      )}
      <div className="flex gap-2">
        <button className="btn !h-[28px]" disabled={say.isPending}>
          Say so
        </button>
        <button type="button" className="btn !h-[28px]" onClick={() => setOpen(false)}>
          Not now
        </button>
      </div>
    </form>
  )
}
