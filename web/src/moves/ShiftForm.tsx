import { useState } from 'react'
import type { Schemas } from '../api/client'
import { Choice, Field } from '../parts/Field'
import { SmallButton } from '../parts/SmallButton'

type Movable = Schemas['Movable']
export type Entry = Partial<Omit<Schemas['Shift'], 'to'>> & { network: string; to?: Record<string, string | undefined> }

const rules = [
  { value: 'number', label: 'the same number' },
  { value: 'window', label: 'the same place in its window' },
  { value: 'packed', label: 'packed, lowest first' },
]

/** What becomes of one network. */
export function ShiftForm({
  entry,
  movable,
  errors,
  at,
  onChange,
  onRemove,
}: {
  entry: Entry
  movable: Movable
  errors: Record<string, string>
  at: number
  onChange: (entry: Entry) => void
  onRemove: () => void
}) {
  const [more, setMore] = useState(!!entry.into || !!entry.device)
  const n = movable.networks.find((o) => o.id === entry.network)
  if (!n) return null
  const error = (name: string) => errors[`shifts[${at}].${name}`]
  const words = (name: 'prefix' | 'gateway', label: string, hint: string) => (
    <Words
      label={label}
      hint={hint}
      error={error(name)}
      value={entry[name] ?? ''}
      complete={name === 'prefix' ? /^\d+\.\d+\.\d+\.\d+\/\d+$/ : /^\d+\.\d+\.\d+\.\d+$/}
      onChange={(v) => {
        onChange({ ...entry, [name]: v || undefined })
      }}
    />
  )
  const pieces = entry.pieces ?? []
  return (
    <fieldset className="border border-seam px-3 pb-3 pt-1 mt-3">
      <legend className="px-1 font-semibold">
        {n.name} <span className="mono font-normal text-ink-2">{n.prefix}</span>
        {n.vlan > 0 && <span className="font-normal text-ink-2">, VLAN {n.vlan}</span>}
      </legend>
      <div className="grid grid-cols-[repeat(auto-fill,minmax(190px,1fr))] gap-3">
        {!entry.into && (
          <>
            {words(
              'prefix',
              'New subnet',
              n.free ? `Empty to stay; ${n.free} is free` : `Empty to stay in ${n.prefix}`,
            )}
            <Field
              label="New VLAN id"
              hint={n.vlan > 0 ? `Empty to stay in ${n.vlan}` : 'Empty for none'}
              error={error('vlan')}
              mono
              inputMode="numeric"
              value={entry.vlan ? String(entry.vlan) : ''}
              onChange={(e) => {
                const v = Number(e.target.value.replace(/\D/g, ''))
                onChange({ ...entry, vlan: v > 0 ? Math.min(v, 4094) : undefined })
              }}
            />
            {words('gateway', 'New gateway', n.gateway ? `Empty for the rule; it is ${n.gateway}` : 'Empty for none')}
          </>
        )}
        <Choice
          label="Host numbers"
          value={entry.rule ?? 'number'}
          options={[
            ...rules,
            ...(movable.standard ? [{ value: 'standard', label: `as ${movable.standard} has it` }] : []),
          ]}
          onChange={(e) => {
            onChange({ ...entry, rule: e.target.value as Entry['rule'] })
          }}
        />
      </div>
      {more && (
        <div className="grid grid-cols-[repeat(auto-fill,minmax(190px,1fr))] gap-3 mt-2">
          <Choice
            label="Becomes part of"
            value={entry.into ?? ''}
            options={[
              { value: '', label: 'stays a network of its own' },
              ...movable.networks.filter((o) => o.id !== n.id).map((o) => ({ value: o.id, label: o.name })),
            ]}
            onChange={(e) => {
              onChange({ ...entry, into: e.target.value || undefined })
            }}
          />
          <Choice
            label="Routed by"
            value={entry.device ?? ''}
            options={[
              { value: '', label: 'the same device' },
              ...movable.devices.map((d) => ({ value: d.id, label: d.name })),
            ]}
            onChange={(e) => {
              onChange({ ...entry, device: e.target.value || undefined, parent: undefined })
            }}
          />
          {entry.device && (
            <Choice
              label="Carried by its interface"
              value={entry.parent ?? ''}
              options={[
                { value: '', label: 'none: the device has VLANs of its own' },
                ...(movable.devices.find((d) => d.id === entry.device)?.parents ?? []).map((p) => ({
                  value: p,
                  label: p,
                })),
              ]}
              onChange={(e) => {
                onChange({ ...entry, parent: e.target.value || undefined })
              }}
            />
          )}
        </div>
      )}
      {pieces.map((p, k) => (
        <PieceForm
          key={k}
          piece={p}
          error={(name) => error(`pieces[${k}].${name}`)}
          onChange={(next) => {
            onChange({
              ...entry,
              pieces: next ? pieces.map((o, i) => (i === k ? next : o)) : pieces.filter((_, i) => i !== k),
            })
          }}
        />
      ))}
      <div className="flex flex-wrap gap-3 mt-2 items-center">
        <label className="flex gap-1.5 items-center">
          <input
            type="checkbox"
            checked={!!entry.grow}
            onChange={(e) => {
              onChange({ ...entry, grow: e.target.checked })
            }}
          />
          Pools grow with the network
        </label>
        <button
          className="underline"
          aria-expanded={more}
          onClick={(e) => {
            e.preventDefault()
            setMore(!more)
          }}
        >
          {more ? 'Less' : 'Join, split or route it elsewhere'}
        </button>
        {more && (
          <SmallButton
            onClick={() => {
              const from = n.gateway || n.prefix.replace(/\/.*/, '')
              onChange({
                ...entry,
                pieces: [...pieces, { name: `${n.name} 2`, takes: { from, to: from }, prefix: '', vlan: 0 }],
              })
            }}
          >
            Split part of it off
          </SmallButton>
        )}
        <SmallButton onClick={onRemove}>Leave {n.name} where it is</SmallButton>
      </div>
    </fieldset>
  )
}

type Piece = NonNullable<Schemas['Shift']['pieces']>[number]

function PieceForm({
  piece,
  error,
  onChange,
}: {
  piece: Piece
  error: (name: string) => string | undefined
  onChange: (piece?: Piece) => void
}) {
  const ip = /^\d+\.\d+\.\d+\.\d+$/
  return (
    <div className="grid grid-cols-[repeat(auto-fill,minmax(150px,1fr))] gap-3 mt-2 border-t border-seam-2 pt-2">
      <Field
        label="The new network is called"
        error={error('name')}
        value={piece.name}
        onChange={(e) => {
          onChange({ ...piece, name: e.target.value })
        }}
      />
      <Words
        label="Takes from"
        error={error('takes')}
        value={piece.takes.from}
        complete={ip}
        onChange={(from) => {
          onChange({ ...piece, takes: { ...piece.takes, from } })
        }}
      />
      <Words
        label="to"
        value={piece.takes.to}
        complete={ip}
        onChange={(to) => {
          onChange({ ...piece, takes: { ...piece.takes, to } })
        }}
      />
      <Words
        label="Its subnet"
        error={error('prefix')}
        value={piece.prefix}
        complete={/^\d+\.\d+\.\d+\.\d+\/\d+$/}
        onChange={(prefix) => {
          onChange({ ...piece, prefix })
        }}
      />
      <Field
        label="Its VLAN id"
        mono
        value={piece.vlan ? String(piece.vlan) : ''}
        onChange={(e) => {
          onChange({ ...piece, vlan: Math.min(Number(e.target.value.replace(/\D/g, '')), 4094) })
        }}
      />
      <SmallButton
        onClick={() => {
          onChange()
        }}
      >
        Do not split
      </SmallButton>
    </div>
  )
}

/** A field whose text is passed on once it is whole, or empty. */
function Words({
  label,
  hint,
  error,
  value,
  complete,
  onChange,
}: {
  label: string
  hint?: string
  error?: string
  value: string
  complete: RegExp
  onChange: (value: string) => void
}) {
  const [text, setText] = useState(value)
  const trimmed = text.trim()
  const whole = trimmed === '' || complete.test(trimmed)
  const [left, setLeft] = useState(false)
  return (
    <Field
      label={label}
      hint={hint}
      mono
      error={
        error ??
        (left && !whole
          ? `${trimmed} is not whole yet; type for example ${value || (complete.source.includes('/') ? '10.84.22.0/24' : '10.84.22.1')}`
          : undefined)
      }
      value={text}
      onChange={(e) => {
        setText(e.target.value)
        const now = e.target.value.trim()
        if (now === '' || complete.test(now)) onChange(now)
      }}
      onBlur={() => {
        setLeft(true)
      }}
    />
  )
}
