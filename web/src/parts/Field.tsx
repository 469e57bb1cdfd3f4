import { useId, type InputHTMLAttributes, type ReactNode, type TextareaHTMLAttributes } from 'react'

type Common = { label: string; hint?: ReactNode; error?: string }

/** A labelled input with its hint, and what is wrong with it. */
export function Field({
  label,
  hint,
  error,
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
      <Says id={`${id}-says`} hint={hint} error={error} />
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

function Says({ id, hint, error }: { id: string; hint?: ReactNode; error?: string }) {
  return (
    <div
      id={id}
      className={`text-[12.5px] mt-1 ${error ? 'text-cinnabar-ink' : 'text-ink-3'}`}
      role={error ? 'alert' : undefined}
    >
      {error ?? hint}
    </div>
  )
}
