import { useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useForm } from 'react-hook-form'
import { api, call, problemOf, unplaced, type Problem, type Schemas } from '../api/client'
import { Field } from '../parts/Field'
import { Window } from '../parts/Window'

type Props = {
  open: boolean
  site: string
  siteName: string
  orders: Schemas['Opened'][]
  onClose: () => void
  onOpened: (id: number) => void
}

/** Opens a work order, or takes up one that is open at the site. */
export function OpenOrder({ open, site, siteName, orders, onClose, onOpened }: Props) {
  const client = useQueryClient()
  const form = useForm({ defaultValues: { title: '', ticket: '' } })
  const [problem, setProblem] = useState<Problem>()
  const submit = form.handleSubmit(async (values) => {
    setProblem(undefined)
    try {
      const made = await call(api.POST('/api/orders', { body: { site, ...values } }))
      form.reset()
      void client.invalidateQueries({ queryKey: ['orders'] })
      onOpened(made.id)
    } catch (e) {
      setProblem(problemOf(e))
    }
  })
  return (
    <Window
      title="Open a work order"
      says={`Edits to ${siteName} are kept in a work order until they are rehearsed and pushed.`}
      open={open}
      onClose={onClose}
      filled={form.formState.isDirty}
    >
      <form onSubmit={(e) => void submit(e)} className="mt-3 grid gap-3" aria-label="Open a work order">
        <Field
          label="Title"
          placeholder="Recovery ward"
          autoFocus
          {...form.register('title')}
          error={problem?.fields.title}
        />
        <Field
          label="Ticket"
          placeholder="4471"
          {...form.register('ticket')}
          error={problem?.fields.ticket}
          hint="The number it has where your work is booked; may be empty."
        />
        {unplaced(problem) && (
          <div role="alert" className="text-cinnabar-ink">
            {unplaced(problem)}
          </div>
        )}
        <div className="flex gap-2 justify-end">
          <button type="button" className="btn" onClick={onClose}>
            Cancel
          </button>
          <button className="btn btn-next" disabled={form.formState.isSubmitting}>
            Open
          </button>
        </div>
      </form>
      {orders.length > 0 && (
        <section className="mt-4 border-t border-seam pt-3">
          <h2>Or go on with one that is open</h2>
          <ul className="mt-1 grid gap-1">
            {orders.map((o) => (
              <li key={o.id}>
                <button className="hover:underline" onClick={() => onOpened(o.id)}>
                  <b>{o.name}</b> {o.title} <span className="text-ink-3">by {o.by}</span>
                </button>
              </li>
            ))}
          </ul>
        </section>
      )}
    </Window>
  )
}
