import { useState } from 'react'
import { Controller, useForm, type UseFormReturn } from 'react-hook-form'
import { api, call, Problem, type Change, type View } from '../api/client'
import { Choice, Field, Lines, Several } from '../parts/Field'
import { Window } from '../parts/Window'
import { fieldsOf, type FieldSpec, type FormSpec } from './forms'

type Props = {
  spec: FormSpec
  view: View
  site: string
  save: (change: Change, version?: number) => Promise<unknown>
  onClose: () => void
}

/** The form of one part. What is typed stays until it is saved or given up. */
export function PartForm({ spec, view, site, save, onClose }: Props) {
  const form = useForm({ defaultValues: spec.values })
  const [problem, setProblem] = useState<Problem>()
  // The draft as it was when the form was opened: whoever changes it meanwhile is
  // not overwritten without a word. After that word the newest one counts.
  const [version, setVersion] = useState(view.order?.version)
  const fields = fieldsOf(spec, view, form.watch())
  const { dirtyFields } = form.formState
  const submit = form.handleSubmit(async (values) => {
    setProblem(undefined)
    // Of a part that is there already only what was changed is sent; of what its
    // kind does not have, nothing.
    const sent = fields.filter((f) => values[f.name] !== undefined && (spec.isNew || dirtyFields[f.name]))
    const id = spec.id ?? (sent.some((f) => f.option) ? `${spec.kind}-${crypto.randomUUID().slice(0, 13)}` : '')
    const own = Object.fromEntries(sent.filter((f) => !f.option).map((f) => [f.name, values[f.name]]))
    const hidden = Object.fromEntries(
      Object.entries(values).filter(([name]) => spec.isNew && !fields.some((f) => f.name === name)),
    )
    const options = sent
      .filter((f) => f.option && (values[f.name] || !spec.isNew))
      .map((f) => ({
        kind: 'option' as const,
        id: String(f.option),
        in: `${spec.kind}:${id}`,
        fields: { value: values[f.name] },
      }))
    const part = {
      kind: spec.kind,
      id,
      new: spec.isNew || undefined,
      in: spec.in,
      fields: { ...(spec.kind === 'interface' ? {} : hidden), ...own },
    }
    try {
      await save({ entries: [...(spec.isNew || Object.keys(own).length ? [part] : []), ...options] }, version)
      onClose()
    } catch (e) {
      const p = e as Problem
      setProblem(p)
      if (p.status === 409) setVersion(undefined)
      const first = fields.find((f) => p.fields[f.name])
      if (first) form.setFocus(first.name)
    }
  })
  const stray = problem && !fields.some((f) => problem.fields[f.name] || (f.option && problem.fields.value))
  return (
    <Window title={spec.title} open onClose={onClose}>
      <form onSubmit={(e) => void submit(e)} className="mt-3 grid gap-2.5" aria-label={spec.title}>
        {spec.kind === 'network' && spec.isNew && (
          <Room
            site={site}
            order={view.order?.id}
            onRoom={(values) => Object.entries(values).forEach(([k, v]) => form.setValue(k, v))}
          />
        )}
        {fields.map((f, i) => (
          <OneField
            key={f.name}
            field={f}
            form={form}
            first={i === 0}
            error={problem?.fields[f.name] ?? (f.option && problem?.fields.value ? problem.fields.value : undefined)}
          />
        ))}
        {stray && (
          <div role="alert" className="border-l-3 border-cinnabar bg-cinnabar-t text-cinnabar-ink px-3 py-2">
            {problem.message}
          </div>
        )}
        <div className="flex gap-2 justify-end mt-1">
          <button type="button" className="btn" onClick={onClose}>
            Cancel
          </button>
          <button className="btn btn-next" disabled={form.formState.isSubmitting}>
            {spec.isNew ? 'Add' : 'Save'}
          </button>
        </div>
      </form>
    </Window>
  )
}

function OneField({
  field: f,
  form,
  first,
  error,
}: {
  field: FieldSpec
  form: UseFormReturn<Record<string, string>>
  first: boolean
  error?: string
}) {
  const common = { label: f.label, hint: f.hint, error, ...form.register(f.name) }
  if (f.several)
    return (
      <Controller
        control={form.control}
        name={f.name}
        render={({ field }) => (
          <Several
            label={f.label}
            hint={f.hint}
            error={error}
            options={f.several!}
            value={field.value ?? ''}
            onChange={field.onChange}
          />
        )}
      />
    )
  if (f.choose) return <Choice options={f.choose} {...common} />
  if (f.lines) return <Lines mono={f.mono} {...common} />
  return (
    <Field
      mono={f.mono}
      type={f.secret ? 'password' : 'text'}
      autoFocus={first}
      {...common}
      autoComplete={f.secret ? 'new-password' : 'off'}
    />
  )
}

const sizes = [30, 29, 28, 27, 26, 25, 24, 23, 22].map((bits) => ({
  value: String(bits),
  label: `/${bits}, ${2 ** (32 - bits) - 2} hosts`,
}))

/** Asks the server for the next free prefix of a size, an unused VLAN id and a gateway. */
function Room({
  site,
  order,
  onRoom,
}: {
  site: string
  order?: number
  onRoom: (values: Record<string, string>) => void
}) {
  const [problem, setProblem] = useState('')
  const propose = async (bits: string) => {
    setProblem('')
    try {
      const room = await call(
        api.GET('/api/sites/{site}/room', { params: { path: { site }, query: { bits: Number(bits), order } } }),
      )
      onRoom(room.fields)
    } catch (e) {
      setProblem((e as Problem).message)
    }
  }
  return (
    <Choice
      label="Size"
      options={[{ value: '', label: 'As typed below' }, ...sizes]}
      hint="Proposes the next free prefix of this size and an unused VLAN id"
      error={problem || undefined}
      onChange={(e) => e.target.value && void propose(e.target.value)}
    />
  )
}
