import { useState } from 'react'
import { useForm, type UseFormReturn } from 'react-hook-form'
import { problemOf, type Problem, type Change, type Schemas } from '../api/client'
import { useOptions } from '../api/queries'
import { Choice, Field, Lines } from '../parts/Field'
import { Window } from '../parts/Window'

type Props = {
  own: Schemas['OptionChoice'][]
  levels: Schemas['Level'][]
  code?: number
  value?: string
  level?: string
  version?: number
  save: (change: Change, version?: number) => Promise<unknown>
  onClose: () => void
}

/** Sets a DHCP option at one of the levels that reach the selected part. */
export function OptionForm(props: Props) {
  const options = useOptions()
  // A choice shows its first option until the one it stands at is there.
  return options.data ? (
    <Form {...props} options={[...options.data, ...props.own].sort((a, b) => a.code - b.code)} />
  ) : null
}

function Form({
  levels,
  code,
  value,
  level,
  version,
  save,
  onClose,
  options,
}: Props & { options: Schemas['OptionChoice'][] }) {
  const known = levels.some((l) => l.ref === level)
  const form = useForm({
    defaultValues: { code: String(code ?? 51), value: value ?? '', level: (known ? level : levels[0]?.ref) ?? '' },
  })
  const [problem, setProblem] = useState<Problem>()
  const [opened, setOpened] = useState(version)
  const chosen = options.find((o) => String(o.code) === form.watch('code'))
  const submit = form.handleSubmit(async (v) => {
    setProblem(undefined)
    try {
      await save({ entries: [{ kind: 'option', id: v.code, in: v.level, fields: { value: v.value } }] }, opened)
      onClose()
    } catch (e) {
      const p = problemOf(e)
      setProblem(p)
      if (p.status === 409) setOpened(undefined)
      form.setFocus('value')
    }
  })
  return (
    <Window title="Set an option" open onClose={onClose}>
      <form onSubmit={(e) => void submit(e)} className="mt-3 grid gap-2.5" aria-label="Set an option">
        <Choice
          label="Option"
          options={options.map((o) => ({ value: String(o.code), label: `${o.code}  ${o.name}` }))}
          hint={chosen?.meaning}
          {...form.register('code')}
        />
        <ValueField chosen={chosen} form={form} error={problem?.fields.value} />
        <Choice
          label="For"
          options={levels.map((l) => ({ value: l.ref, label: l.name }))}
          hint="The nearest level wins"
          {...form.register('level')}
        />
        {problem && !problem.fields.value && (
          <div role="alert" className="text-cinnabar-ink">
            {problem.message}
          </div>
        )}
        <div className="flex gap-2 justify-end">
          <button type="button" className="btn" onClick={onClose}>
            Cancel
          </button>
          <button className="btn btn-next" disabled={form.formState.isSubmitting}>
            Set
          </button>
        </div>
      </form>
    </Window>
  )
}

/** The editor of a value, by the option's type. */
function ValueField({
  chosen,
  form,
  error,
}: {
  chosen?: Schemas['OptionChoice']
  form: UseFormReturn<{ code: string; value: string; level: string }>
  error?: string
}) {
  const common = { label: 'Value', error, ...form.register('value') }
  const example = chosen?.example ? `, for example ${chosen.example}` : ''
  const hint = chosen && `${chosen.type}${example}. Empty stops setting it here. ${chosen.reference}`
  switch (chosen?.type) {
    case 'switch':
      return (
        <Choice
          options={[
            { value: '', label: 'Not set here' },
            { value: 'on', label: 'On' },
            { value: 'off', label: 'Off' },
          ]}
          hint={hint}
          {...common}
        />
      )
    case 'addresses':
    case 'address pairs':
    case 'domain names':
    case 'routes':
    case 'call servers':
      return (
        <Lines
          mono
          rows={3}
          autoFocus
          hint={`${hint}. Several go on lines of their own or with commas, the most preferred first.`}
          {...common}
        />
      )
    case 'number (8 bits)':
    case 'number (16 bits)':
    case 'number (32 bits)':
      return <Field mono autoFocus inputMode="numeric" hint={hint} {...common} />
    default:
      return <Field mono={chosen?.type !== 'duration'} autoFocus hint={hint} {...common} />
  }
}
