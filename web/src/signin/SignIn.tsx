import { useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useForm } from 'react-hook-form'
import { api, call, problemOf } from '../api/client'
import { pickUp } from '../frame/currentOrder'
import { Field } from '../parts/Field'

export function SignIn({ problem }: { problem?: string }) {
  const client = useQueryClient()
  const form = useForm({ defaultValues: { name: '', password: '' } })
  const [says, setSays] = useState(problem)
  const submit = form.handleSubmit(async (body) => {
    setSays(undefined)
    try {
      const { order, ...technician } = await call(api.POST('/api/session', { body }))
      pickUp(order)
      client.setQueryData(['session'], { technician })
    } catch (e) {
      setSays(problemOf(e).message)
      form.setFocus('password')
    }
  })
  return (
    <div className="h-full grid grid-rows-[48px_minmax(0,1fr)]">
      <header className="bg-basalt text-on-basalt flex items-center gap-2 px-4 font-[750] text-[17px]">
        <img src="/mark.svg" width="24" height="22" alt="" /> Lithos
      </header>
      <main className="grid place-items-center px-4">
        <form
          onSubmit={(e) => void submit(e)}
          className="w-full max-w-[380px] -mt-[12vh] bg-sheet border border-seam rounded-sm p-6 flex flex-col gap-3"
          aria-label="Sign in"
        >
          <h1>Sign in</h1>
          <Field
            label="Name"
            autoFocus
            autoComplete="username"
            autoCapitalize="none"
            {...form.register('name', { required: true })}
            error={form.formState.errors.name && 'Type the name of your account.'}
          />
          <Field
            label="Password"
            type="password"
            autoComplete="current-password"
            {...form.register('password', { required: true })}
            error={form.formState.errors.password && 'Type your password.'}
          />
          {says && (
            <div role="alert" className="border-l-3 border-cinnabar bg-cinnabar-t text-cinnabar-ink px-3 py-2">
              {says}
            </div>
          )}
          <button className="btn btn-next self-start" disabled={form.formState.isSubmitting}>
            {form.formState.isSubmitting ? 'Signing in…' : 'Sign in'}
          </button>
          <p className="text-ink-2 border-t border-seam pt-3 mt-2">
            No address has two owners, no client is left without an answer, and nothing reaches a device that was not
            rehearsed.
          </p>
        </form>
      </main>
    </div>
  )
}
