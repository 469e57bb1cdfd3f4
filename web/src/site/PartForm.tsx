import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Controller, useForm, type UseFormReturn } from 'react-hook-form'
import { api, call, problemOf, type Problem, type Change, type Schemas, type View } from '../api/client'
import { Alert } from '../parts/Alert'
import { Choice, Field, Lines, Several } from '../parts/Field'
import { FromFile } from '../parts/FromFile'
import { Window } from '../parts/Window'
import { Room } from './Room'

type Props = {
  opens: Schemas['Opens']
  view: View
  save: (change: Change, version?: number) => Promise<unknown>
  onClose: () => void
}
type FormField = Schemas['FormField']
type Values = Record<string, string>

/** The form of one part, as the server makes it. */
export function PartForm(props: Props) {
  const { opens, view } = props
  const query = {
    order: view.order?.id,
    kind: opens.kind,
    id: opens.id,
    in: opens.in,
    network: view.network?.id,
  }
  const form = useQuery({
    queryKey: ['form', view.site.code, query],
    gcTime: 0,
    staleTime: Infinity,
    placeholderData: undefined,
    queryFn: () => call(api.GET('/api/sites/{site}/form', { params: { path: { site: view.site.code }, query } })),
  })
  if (form.data) return <Filled {...props} form={form.data} />
  if (!form.error) return null
  return (
    <Window title="This form cannot be opened" says={form.error.message} open onClose={props.onClose}>
      <div className="flex justify-end mt-4">
        <button className="btn" onClick={props.onClose}>
          Close
        </button>
      </div>
    </Window>
  )
}

/**
 * Whether a field is shown: each field it depends on has a value it must have. One that is not shown counts as empty.
 */
function shows(field: FormField, all: FormField[], values: Values): boolean {
  return (field.when ?? []).every((w) => {
    const on = all.find((f) => f.name === w.field)
    return w.is.includes(on && shows(on, all, values) ? (values[on.name] ?? '') : '')
  })
}

/** What is typed stays until it is saved or given up. */
function Filled({ opens, form: spec, view, save, onClose }: Props & { form: Schemas['Form'] }) {
  const form = useForm<Values>({
    defaultValues: { ...Object.fromEntries(spec.fields.map((f) => [f.name, f.value])), ...opens.values },
  })
  const [problem, setProblem] = useState<Problem>()
  // The draft as it was when the form was opened: whoever changes it meanwhile is
  // not overwritten without a word. After that word the newest one counts.
  const [version, setVersion] = useState(view.order?.version)
  const title = opens.title ?? spec.title
  const shown = spec.fields.filter((f) => shows(f, spec.fields, form.watch()))
  const visible = shown.filter((f) => f.input !== 'hidden')
  const { dirtyFields } = form.formState
  const submit = form.handleSubmit(async (values) => {
    setProblem(undefined)
    // Of a part that is there already only what was changed is sent.
    const sent = shown.filter((f) =>
      spec.new ? values[f.name] || f.input === 'hidden' : (dirtyFields[f.name] ?? given(opens, f)),
    )
    const fields = Object.fromEntries(sent.map((f) => [f.name, values[f.name] ?? '']))
    try {
      await save(
        { entries: [{ kind: spec.kind, id: spec.id ?? '', new: spec.new || undefined, in: spec.in, fields }] },
        version,
      )
      onClose()
    } catch (e) {
      const p = problemOf(e)
      setProblem(p)
      if (p.status === 409) setVersion(undefined)
      const first = visible.find((f) => p.fields[f.name])
      if (first) form.setFocus(first.name)
    }
  })
  const stray = problem && !visible.some((f) => problem.fields[f.name])
  return (
    <Window title={title} open onClose={onClose} filled={form.formState.isDirty}>
      <form onSubmit={(e) => void submit(e)} className="mt-3 grid gap-2.5" aria-label={title}>
        {spec.kind === 'network' && spec.new && (
          <Room
            site={view.site.code}
            order={view.order?.id}
            onRoom={(values) => {
              for (const [k, v] of Object.entries(values)) form.setValue(k, v)
            }}
          />
        )}
        {visible.map((f, i) => (
          <OneField
            key={f.name}
            field={f}
            form={form}
            first={i === 0}
            error={problem?.fields[f.name]}
            instead={problem?.instead[f.name]}
          />
        ))}
        <Alert>{stray && problem.message}</Alert>
        <div className="flex gap-2 justify-end mt-1">
          <button type="button" className="btn" onClick={onClose}>
            Cancel
          </button>
          <button className="btn btn-next" disabled={form.formState.isSubmitting}>
            {spec.new ? 'Add' : 'Save'}
          </button>
        </div>
      </form>
    </Window>
  )
}

/** Whether whoever opened the form typed into a field already. */
const given = (opens: Schemas['Opens'], f: FormField) => opens.values?.[f.name] !== undefined

/** One field of a form, as the server describes it. */
export function OneField({
  field: f,
  form,
  first,
  error,
  instead,
}: {
  field: FormField
  form: UseFormReturn<Values>
  first: boolean
  error?: string
  instead?: string
}) {
  const common = { label: f.label, hint: f.hint, error, ...form.register(f.name) }
  const options = f.choices ?? []
  switch (f.input) {
    case 'set':
      return (
        <Controller
          control={form.control}
          name={f.name}
          render={({ field }) => (
            <Several
              label={f.label}
              hint={f.hint}
              error={error}
              options={options}
              none={f.none}
              value={field.value}
              onChange={field.onChange}
            />
          )}
        />
      )
    case 'choice':
      return <Choice options={options} {...common} />
    case 'lines':
      return (
        <div>
          <Lines mono={f.mono} {...common} />
          <FromFile what={f.label} onText={(text) => form.setValue(f.name, text, { shouldDirty: true })} />
        </div>
      )
    default:
      return (
        <Field
          instead={instead}
          mono={f.mono}
          type={f.input === 'secret' ? 'password' : 'text'}
          autoFocus={first}
          {...common}
          autoComplete={f.input === 'secret' ? 'new-password' : 'off'}
        />
      )
  }
}
