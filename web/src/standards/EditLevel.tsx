import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link } from 'react-router'
import { api, call, problemIn, type Schemas } from '../api/client'
import { useOptions } from '../api/queries'
import { Alert } from '../parts/Alert'
import { announce } from '../parts/announce'
import { Field } from '../parts/Field'
import { Mark } from '../parts/Kind'
import { plural } from '../parts/plural'
import { Window } from '../parts/Window'

type Level = Schemas['LevelView']
type Option = { code: number; value: string; always?: boolean }
/** A window as it is typed: its ends are text until it is sent. */
type Span = { use: 'infrastructure' | 'reserved' | 'dynamic'; from: string; to: string }

const titled = (level?: Level) => (level ? `Change ${level.standard.name}` : 'Add a standard')

const isUnread = (w: Span) => !whole.test(w.from.trim()) || !whole.test(w.to.trim())

/** A standard that is not kept yet. */
const fresh: Level['standard'] = { id: 'new', name: '' }

const whole = /^-?\d{1,8}$/

/** Changes a standard or a customer's options, with what becomes of each site shown before it is kept. */
export function EditLevel({ level, onClose }: { level?: Level; onClose: () => void }) {
  const client = useQueryClient()
  const kind = level?.kind ?? 'standard'
  const was = level?.standard ?? fresh
  const [name, setName] = useState(was.name)
  const [domain, setDomain] = useState(was.domain ?? '')
  const [options, setOptions] = useState<Option[]>(was.options ?? [])
  const [windows, setWindows] = useState<Span[]>(
    (was.windows ?? []).map((w) => ({ use: w.use, from: String(w.from), to: String(w.to) })),
  )
  const [at, setAt] = useState<string[]>()
  const [touched, setTouched] = useState(false)
  const path = { kind, id: was.id } as const
  const entry = {
    version: level?.version ?? 0,
    name,
    domain: domain || undefined,
    options,
    windows: windows.map((w) => ({ use: w.use, from: Number(w.from), to: Number(w.to) })),
  }
  const unread = windows.findIndex(isUnread)
  const preview = useMutation({
    mutationFn: () => call(api.POST('/api/levels/{kind}/{id}/preview', { params: { path }, body: entry })),
    onSuccess: (v) => {
      setAt(v.sites.filter((s) => s.words.length > 0).map((s) => s.code))
    },
  })
  const keep = useMutation({
    mutationFn: () => call(api.PUT('/api/levels/{kind}/{id}', { params: { path }, body: { ...entry, at: at ?? [] } })),
    onSuccess: async (v) => {
      announce(`Kept; ${plural(v.orders.length, 'work order', 'work orders')} opened`)
      await Promise.all(
        ['standards', 'orders', 'sites', 'beginning', 'view'].map((k) => client.invalidateQueries({ queryKey: [k] })),
      )
    },
  })
  const typed =
    <T,>(set: (v: T) => void) =>
    (v: T) => {
      set(v)
      setTouched(true)
      preview.reset()
    }
  const problem = problemIn([preview, keep])
  const fault = (n: string) => problem?.fields[n]
  if (keep.data) return <Kept name={name} orders={keep.data.orders} onClose={onClose} />
  return (
    <Window title={titled(level)} open onClose={onClose} wide="full" filled={touched}>
      <form
        className="grid gap-3 mt-3"
        aria-label="Level"
        onSubmit={(e) => {
          e.preventDefault()
          if (unread < 0) (preview.data ? keep : preview).mutate()
        }}
      >
        <div className="grid min-[700px]:grid-cols-2 gap-3">
          <Field
            label="Name"
            value={name}
            error={fault('name')}
            autoFocus
            onChange={(e) => typed(setName)(e.target.value)}
          />
          {kind === 'standard' && (
            <Field
              label="Domain of a new site"
              hint="{code} stands for the site's code, for example {code}.larkrise.example"
              mono
              value={domain}
              error={fault('domain')}
              onChange={(e) => typed(setDomain)(e.target.value)}
            />
          )}
        </div>
        {kind === 'standard' && <Windows of={windows} unread={unread} fault={fault} onChange={typed(setWindows)} />}
        <Options of={options} fault={fault} onChange={typed(setOptions)} />
        <Alert>{problem?.message}</Alert>
        {preview.data && <Becomes sites={preview.data.sites} isNew={!level} at={at ?? []} onChoose={setAt} />}
        <span className="flex flex-wrap justify-end gap-2">
          <button type="button" className="btn" onClick={onClose}>
            Cancel
          </button>
          <Next seen={preview.data !== undefined} orders={at?.length ?? 0} busy={keep.isPending || preview.isPending} />
        </span>
      </form>
    </Window>
  )
}

/** Looks at what becomes of each site first, and keeps it then. */
function Next({ seen, orders, busy }: { seen: boolean; orders: number; busy: boolean }) {
  const keep = orders > 0 ? `Keep it, and open ${plural(orders, 'work order', 'work orders')}` : 'Keep it'
  const look = busy ? 'Working it out' : 'Preview'
  return (
    <button className="btn btn-next" disabled={busy}>
      {seen ? keep : look}
    </button>
  )
}

/** The windows of a standard. */
function Windows({
  of: windows,
  unread,
  fault,
  onChange,
}: {
  of: Span[]
  unread: number
  fault: (field: string) => string | undefined
  onChange: (to: Span[]) => void
}) {
  return (
    <fieldset>
      <legend className="text-[12.5px] font-[650] text-ink-2">
        Windows, counted from a network’s first address; negative numbers count back from its end
      </legend>
      {windows.map((w, n) => {
        const set = (to: Partial<Span>) => onChange(windows.map((o, k) => (k === n ? { ...o, ...to } : o)))
        return (
          <div key={n} className="flex flex-wrap items-center gap-2 mt-1.5">
            <select
              aria-label={`Use of window ${n + 1}`}
              className="field !w-[150px]"
              value={w.use}
              onChange={(e) => set({ use: e.target.value as Span['use'] })}
            >
              <option>infrastructure</option>
              <option>reserved</option>
              <option>dynamic</option>
            </select>
            <Offset label={`First of window ${n + 1}`} value={w.from} onChange={(from) => set({ from })} /> to
            <Offset label={`Last of window ${n + 1}`} value={w.to} onChange={(to) => set({ to })} />
            <button
              type="button"
              className="btn !h-[28px]"
              aria-label={`Remove window ${n + 1}`}
              onClick={() => onChange(windows.filter((_, k) => k !== n))}
            >
              Remove
            </button>
            {(n === unread || fault(`windows[${n}]`)) && (
              <span role="alert" className="text-cinnabar-ink">
                {n === unread ? 'type two whole numbers, for example 20 and -2' : fault(`windows[${n}]`)}
              </span>
            )}
          </div>
        )
      })}
      <button
        type="button"
        className="btn !h-[28px] mt-2"
        onClick={() => onChange([...windows, { use: 'dynamic', from: '60', to: '-2' }])}
      >
        Add a window
      </button>
    </fieldset>
  )
}

/** The options that a level sets. */
function Options({
  of: options,
  fault,
  onChange,
}: {
  of: Option[]
  fault: (field: string) => string | undefined
  onChange: (to: Option[]) => void
}) {
  const known = useOptions().data ?? []
  return (
    <fieldset>
      <legend className="text-[12.5px] font-[650] text-ink-2">Options told to clients</legend>
      {options.map((o, n) => {
        const set = (to: Partial<Option>) => onChange(options.map((was, k) => (k === n ? { ...was, ...to } : was)))
        const about = known.find((k) => k.code === o.code)
        return (
          <div key={n} className="flex flex-wrap items-center gap-2 mt-1.5">
            <select
              aria-label={`Option ${n + 1}`}
              className="field !w-[250px]"
              value={o.code}
              onChange={(e) => set({ code: Number(e.target.value) })}
            >
              {known.map((k) => (
                <option key={k.code} value={k.code}>
                  {k.code} {k.name}
                </option>
              ))}
            </select>
            <input
              aria-label={`Value of option ${n + 1}`}
              className="field mono !w-[300px]"
              placeholder={about?.example}
              value={o.value}
              onChange={(e) => set({ value: e.target.value })}
            />
            <button
              type="button"
              className="btn !h-[28px]"
              aria-label={`Remove option ${n + 1}`}
              onClick={() => onChange(options.filter((_, k) => k !== n))}
            >
              Remove
            </button>
            {fault(`options[${n}]`) && <span className="text-cinnabar-ink">{fault(`options[${n}]`)}</span>}
          </div>
        )
      })}
      <button
        type="button"
        className="btn !h-[28px] mt-2"
        onClick={() =>
          onChange([
            ...options,
            { code: known.find((k) => !options.some((o) => o.code === k.code))?.code ?? 51, value: '' },
          ])
        }
      >
        Add an option
      </button>
    </fieldset>
  )
}

/** What becomes of each site; a work order is opened for those that are chosen. */
function Becomes({
  sites,
  isNew,
  at,
  onChoose,
}: {
  sites: Schemas['LevelPreview']['sites']
  isNew: boolean
  at: string[]
  onChoose: (codes: string[]) => void
}) {
  const changing = sites.filter((s) => s.words.length > 0)
  return (
    <section aria-label="What becomes of each site" role="status">
      <h2>
        {changing.length === 0
          ? isNew
            ? 'No site follows it yet'
            : 'No site is changed by it'
          : `What becomes of ${plural(changing.length, 'site', 'sites')}`}
      </h2>
      <ul className="mt-1 max-h-[30vh] overflow-auto" tabIndex={0} aria-label="Sites">
        {sites.map((s) => (
          <li key={s.code} className="py-1.5 border-b border-seam-2">
            <label className="flex gap-2">
              <input
                type="checkbox"
                checked={at.includes(s.code)}
                disabled={s.words.length === 0}
                onChange={(e) => {
                  const on = e.target.checked
                  onChoose(on ? [...at, s.code] : at.filter((c) => c !== s.code))
                }}
              />
              <b className="font-semibold">{s.name}</b>
              <span className="text-ink-2">
                {s.words.length === 0
                  ? 'has it so already'
                  : `${s.moving} of ${plural(s.known, 'known client')} affected`}
              </span>
            </label>
            {s.words.map((w) => (
              <p key={w} className="pl-6 [overflow-wrap:anywhere]">
                {w}
              </p>
            ))}
            {s.added.map((f) => (
              <p key={f.id} className="pl-6">
                <Mark severity={f.severity} /> {f.title}
              </p>
            ))}
          </li>
        ))}
      </ul>
    </section>
  )
}

/** That a level is kept, with the work orders that were opened. */
function Kept({ name, orders, onClose }: { name: string; orders: Schemas['KeptNow']['orders']; onClose: () => void }) {
  return (
    <Window title={`${name} is kept`} open onClose={onClose} wide>
      {orders.length === 0 ? (
        <p className="mt-2">No work order was opened. Sites with another form of it say so, with the way to take it.</p>
      ) : (
        <ul className="mt-2" aria-label="Work orders that were opened">
          {orders.map((o) => (
            <li key={o.id} className="py-1">
              <Link className="hover:underline" to={`/orders/${o.id}`}>
                {o.name} at {o.title}
              </Link>
            </li>
          ))}
        </ul>
      )}
      <span className="flex justify-end mt-4">
        <button className="btn btn-next" onClick={onClose}>
          Close
        </button>
      </span>
    </Window>
  )
}

function Offset({ label, value, onChange }: { label: string; value: string; onChange: (text: string) => void }) {
  return (
    <input
      inputMode="numeric"
      aria-label={label}
      aria-invalid={whole.test(value.trim()) ? undefined : true}
      className="field mono !w-[90px]"
      value={value}
      onChange={(e) => onChange(e.target.value)}
    />
  )
}
