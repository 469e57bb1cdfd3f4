import { useId, type InputHTMLAttributes, type ReactNode, type TextareaHTMLAttributes } from 'react'

type Common = {
  label: string
  hint?: ReactNode
  error?: string
  /** What may be meant where something is wrong: one press writes it. */
  instead?: string
}

/** A labelled input with its hint, and what is wrong with it. */
export function Field({
  label,
  hint,
  error,
  instead,
  mono,
  ...input
}: Common & { mono?: boolean } & InputHTMLAttributes<HTMLInputElement>) {
  const id = useId()
  return (
    <div>
      <label htmlFor={id} className="block text-[12.5px] text-ink-2 mb-1">
        {label}
      </label>
      <input
        id={id}
        autoComplete="off"
        spellCheck={false}
        aria-invalid={error ? true : undefined}
        aria-describedby={`${id}-says`}
        className={`field ${mono ? 'mono' : ''}`}
        // What stands in the first field of a form is proposed: typing takes its place.
        onFocus={(e) => {
          const { target } = e
          // The form puts its value in once the field is drawn.
          if (input.autoFocus)
            queueMicrotask(() => {
              target.select()
            })
        }}
        {...input}
      />
      <Says id={`${id}-says`} hint={hint} error={error} of={id} instead={instead} />
    </div>
  )
}

/** A labelled choice of a few. */
export function Choice({
  label,
  hint,
  error,
  options,
  ...select
}: Common & { options: { value: string; label: string }[] } & InputHTMLAttributes<HTMLSelectElement>) {
  const id = useId()
  return (
    <div>
      <label htmlFor={id} className="block text-[12.5px] text-ink-2 mb-1">
        {label}
      </label>
      <select
        id={id}
        aria-invalid={error ? true : undefined}
        aria-describedby={`${id}-says`}
        className="field"
        {...select}
      >
        {options.map((o) => (
          <option key={o.value} value={o.value}>
            {o.label}
          </option>
        ))}
      </select>
      <Says id={`${id}-says`} hint={hint} error={error} />
    </div>
  )
}

/** A labelled text of several lines. */
export function Lines({
  label,
  hint,
  error,
  mono,
  ...area
}: Common & { mono?: boolean } & TextareaHTMLAttributes<HTMLTextAreaElement>) {
  const id = useId()
  return (
    <div>
      <label htmlFor={id} className="block text-[12.5px] text-ink-2 mb-1">
        {label}
      </label>
      <textarea
        id={id}
        rows={5}
        spellCheck={false}
        aria-invalid={error ? true : undefined}
        aria-describedby={`${id}-says`}
        className={`field !h-auto py-1.5 ${mono ? 'mono' : ''}`}
        {...area}
      />
      <Says id={`${id}-says`} hint={hint} error={error} />
    </div>
  )
}

/** Several of a few, as text with commas between. */
export function Several({
  label,
  hint,
  error,
  options,
  none,
  value,
  onChange,
}: Common & {
  options: { value: string; label: string }[]
  /** What it means to choose none, where that is a choice of its own. */
  none?: string
  value: string
  onChange: (value: string) => void
}) {
  const id = useId()
  const chosen = value.split(/[\s,]+/).filter(Boolean)
  const flip = (one: string) =>
    onChange(
      options
        .map((o) => o.value)
        .filter((v) => chosen.includes(v) !== (v === one))
        .join(', '),
    )
  return (
    <fieldset aria-describedby={`${id}-says`}>
      <legend className="text-[12.5px] text-ink-2 mb-1">{label}</legend>
      <div className="flex flex-wrap gap-x-4 gap-y-1">
        {none && (
          <label className="inline-flex items-center gap-1.5 min-h-[24px] basis-full">
            <input
              type="checkbox"
              checked={chosen.length === 0}
              onChange={() => {
                onChange('')
              }}
            />{' '}
            {none}
          </label>
        )}
        {options.map((o) => (
          <label key={o.value} className="inline-flex items-center gap-1.5 min-h-[24px]">
            <input type="checkbox" checked={chosen.includes(o.value)} onChange={() => flip(o.value)} /> {o.label}
          </label>
        ))}
        {options.length === 0 && <span className="text-ink-3">There is none yet</span>}
      </div>
      <Says id={`${id}-says`} hint={hint} error={error} />
    </fieldset>
  )
}

function Says(props: { id: string; hint?: ReactNode; error?: string; of?: string; instead?: string }) {
  const { id, hint, error, of, instead } = props
  return (
    <div
      id={id}
      className={`text-[12.5px] ${(error ?? hint) ? 'mt-1' : ''} ${error ? 'text-cinnabar-ink' : 'text-ink-3'}`}
      role={error ? 'alert' : undefined}
    >
      {error ?? hint}
      {error && of && instead && <Instead of={of} text={instead} />}
    </div>
  )
}

/** The press that writes what may be meant into a field, as if it were typed there. */
export function Instead({ of, text }: { of: string; text: string }) {
  const write = () => {
    const field = document.getElementById(of)
    if (!(field instanceof HTMLInputElement)) return
    // React looks at the value through the setter that it put over the field's own.
    Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value')?.set?.call(field, text)
    field.dispatchEvent(new Event('input', { bubbles: true }))
    field.focus()
  }
  return (
    <button type="button" className="block underline decoration-dotted font-semibold min-h-[24px]" onClick={write}>
      Write {text}
    </button>
  )
}
