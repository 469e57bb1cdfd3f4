import { useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { useForm, type UseFormReturn } from 'react-hook-form'
import { api, call, problemOf, type Change, type Problem, type Schemas } from '../api/client'
import { useOptions } from '../api/queries'
import { Alert } from '../parts/Alert'
import { Choice, Field, Lines } from '../parts/Field'
import { Window } from '../parts/Window'

type Props = {
  site: string
  look: Schemas['Look']
  own: Schemas['OptionChoice'][]
  code?: number
  version?: number
  save: (change: Change, version?: number) => Promise<unknown>
  onClose: () => void
}
type Values = { code: string; value: string; level: string; always: boolean }

/** Sets a DHCP option at one of the levels that reach the selected part. */
export function OptionForm(props: Props) {
  const options = useOptions()
  // A choice shows its first option until the one it stands at is there.
  return options.data ? (
    <Form {...props} options={[...options.data, ...props.own].sort((a, b) => a.code - b.code)} />
  ) : null
}

/** Where an option can be set for what is looked at, and what is in effect there. */
const useOptionPlace = (site: string, look: Schemas['Look'], code: number) =>
  useQuery({
    queryKey: ['option', site, look.order, look.network, look.select, code],
    gcTime: 0,
    placeholderData: undefined,
    queryFn: () =>
      call(
        api.GET('/api/sites/{site}/option', {
          params: {
            path: { site },
            query: { order: look.order, network: look.network, select: look.select, code },
          },
        }),
      ),
  })

const leaseTime = 51

/** The level that is chosen, and the value that is set there or in effect. */
function setAt(place: Schemas['OptionPlace'] | undefined, ref: string) {
  const level = place?.levels.find((l) => l.ref === ref) ?? place?.levels[0]
  return { level, present: level?.set ? level.value : (place?.value ?? '') }
}

/** Shows what is set at the level that is looked at. A value that somebody typed stays. */
function useShown(form: UseFormReturn<Values>, present: string, level?: { ref: string; always: boolean }) {
  const { setValue, getFieldState } = form
  useEffect(() => {
    if (!getFieldState('value').isDirty) setValue('value', present)
  }, [present, setValue, getFieldState])
  const { ref, always } = level ?? { ref: undefined, always: false }
  useEffect(() => {
    if (ref !== undefined) setValue('level', ref)
  }, [ref, setValue])
  useEffect(() => {
    setValue('always', always)
  }, [always, ref, setValue])
}

function Form({ site, look, code, version, save, onClose, options }: Props & { options: Schemas['OptionChoice'][] }) {
  const form = useForm<Values>({
    defaultValues: { code: String(code ?? leaseTime), value: '', level: '', always: false },
  })
  const [problem, setProblem] = useState<Problem>()
  const [opened, setOpened] = useState(version)
  const [picked, value, ref] = form.watch(['code', 'value', 'level'])
  const { data: place } = useOptionPlace(site, look, Number(picked))
  const { level, present } = setAt(place, ref)
  useShown(form, present, level)
  const chosen = options.find((o) => String(o.code) === picked)
  const send = async (change: Change) => {
    setProblem(undefined)
    try {
      await save(change, opened)
      onClose()
    } catch (e) {
      const p = problemOf(e)
      setProblem(p)
      if (p.status === 409) setOpened(undefined)
      form.setFocus('value')
    }
  }
  const submit = form.handleSubmit((v) =>
    send({
      entries: [
        {
          kind: 'option',
          id: v.code,
          in: v.level,
          fields: { value: v.value, ...(level?.asked && { always: v.always ? 'yes' : 'no' }) },
        },
      ],
    }),
  )
  return (
    <Window title="Set an option" open onClose={onClose} filled={value !== present}>
      <form onSubmit={(e) => void submit(e)} className="mt-3 grid gap-2.5" aria-label="Set an option">
        <Choice
          label="Option"
          options={options.map((o) => ({ value: String(o.code), label: `${o.code}  ${o.name}` }))}
          hint={chosen?.meaning}
          {...form.register('code', {
            onChange: () => {
              form.resetField('value', { defaultValue: '' })
              setProblem(undefined)
            },
          })}
        />
        <ValueField chosen={chosen} form={form} error={problem?.fields.value} />
        <p className="text-[12.5px] text-ink-2">{place && <Present value={place.value} from={place.from} />}</p>
        <Choice
          label="For"
          options={(place?.levels ?? []).map((l) => ({ value: l.ref, label: l.name }))}
          hint={level && `Touches ${level.touches}. The nearest level wins.`}
          {...form.register('level')}
        />
        {level?.asked && (
          <label className="inline-flex items-center gap-1.5 min-h-[24px]">
            <input type="checkbox" {...form.register('always')} /> Send it also to clients that do not ask for it
          </label>
        )}
        <Alert>{!problem?.fields.value && problem?.message}</Alert>
        <div className="flex flex-wrap gap-2 justify-end">
          {level?.set && (
            <button
              type="button"
              className="btn mr-auto"
              onClick={() => void send({ remove: `option:${picked}`, in: level.ref })}
            >
              Stop setting it here
            </button>
          )}
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

function Present({ value, from }: { value?: string; from?: string }) {
  if (!value) return 'Nothing is told of it now.'
  return (
    <>
      Now <b className="text-ink">{value}</b>, {from}.
    </>
  )
}

/** The editor of a value, by the option's type. */
function ValueField({
  chosen,
  form,
  error,
}: {
  chosen?: Schemas['OptionChoice']
  form: UseFormReturn<Values>
  error?: string
}) {
  const common = { label: 'Value', error, ...form.register('value') }
  const example = chosen?.example ? `, for example ${chosen.example}` : ''
  const hint = chosen && `${chosen.type}${example}. ${chosen.reference}`
  switch (chosen?.type) {
    case 'switch':
      return (
        <Choice
          options={[
            { value: '', label: 'Choose' },
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
    case 'encrypted name servers':
    case 'URIs':
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
