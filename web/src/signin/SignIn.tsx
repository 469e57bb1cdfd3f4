import { useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useForm } from 'react-hook-form'
import { api, call, problemOf, type Schemas } from '../api/client'
import { sessionBegins } from '../api/lost'
import { pickUp } from '../frame/currentOrder'
import { usePageTitle } from '../frame/usePageTitle'
import { Alert } from '../parts/Alert'
import { Field } from '../parts/Field'
import { Window } from '../parts/Window'

export function SignIn({ problem }: { problem?: string }) {
  const client = useQueryClient()
  usePageTitle('Sign in')
  return (
    <div className="h-full grid grid-rows-[48px_minmax(0,1fr)]">
      <header className="bg-basalt text-on-basalt flex items-center gap-2 px-4 font-[750] text-[17px]">
        <img src="/mark.svg" width="24" height="22" alt="" /> Lithos
      </header>
      <main className="grid place-items-center px-4">
        <div className="w-full max-w-[380px] -mt-[12vh] bg-sheet border border-seam rounded-sm p-6">
          <h1>Sign in</h1>
          <Credentials
            problem={problem}
            onSignedIn={({ order, ...technician }) => {
              pickUp(order)
              client.setQueryData(['session'], { technician })
            }}
          />
          <p className="text-ink-2 border-t border-seam pt-3 mt-5">
            No address has two owners, no client is left without an answer, and nothing reaches a device that was not
            rehearsed.
          </p>
        </div>
      </main>
    </div>
  )
}

/** Over a page whose session has ended: the page stays, with what was typed in it. */
export function SignInAgain({ technician }: { technician: Schemas['Technician'] }) {
  const client = useQueryClient()
  return (
    <Window
      title="Sign in again"
      says="You were away too long, or were signed out. What you typed is still here."
      open
      onClose={sessionBegins}
    >
      <Credentials
        onSignedIn={({ id }) => {
          // Another technician begins with a page of their own.
          if (id !== technician.id) location.reload()
          sessionBegins()
          void client.invalidateQueries()
        }}
      />
    </Window>
  )
}

type SignedIn = Schemas['Technician'] & { order?: number }

function Credentials({ problem, onSignedIn }: { problem?: string; onSignedIn: (who: SignedIn) => void }) {
  const form = useForm({ defaultValues: { name: '', password: '' } })
  const [says, setSays] = useState(problem)
  const submit = form.handleSubmit(async (body) => {
    setSays(undefined)
    try {
      onSignedIn(await call(api.POST('/api/session', { body })))
    } catch (e) {
      setSays(problemOf(e).message)
      form.setFocus('password')
    }
  })
  return (
    <form onSubmit={(e) => void submit(e)} className="mt-3 flex flex-col gap-3" aria-label="Sign in">
      <Field
        label="Name"
        autoFocus
        autoComplete="username"
        autoCapitalize="none"
        maxLength={100}
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
      <Alert>{says}</Alert>
      <button className="btn btn-next self-start" disabled={form.formState.isSubmitting}>
        {form.formState.isSubmitting ? 'Signing in…' : 'Sign in'}
      </button>
    </form>
  )
}
