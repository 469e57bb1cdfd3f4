import { useState } from 'react'
import { Choice, Field } from '../parts/Field'
import { SmallButton } from '../parts/SmallButton'
import { PieceForm } from './PieceForm'
import type { AskedShift, Movable } from './useMove'

const rules = [
  { value: 'number', label: 'the same number' },
  { value: 'window', label: 'the same place in its window' },
  { value: 'packed', label: 'packed, lowest first' },
]

/** What becomes of one network. */
export function ShiftForm({
  shift,
  movable,
  error,
  onChange,
  onRemove,
}: {
  shift: AskedShift
  movable: Movable
  error: (field: string) => string | undefined
  onChange: (change: Partial<AskedShift>) => void
  onRemove: () => void
}) {
  const pieces = shift.pieces ?? []
  const [more, setMore] = useState(!!shift.into || !!shift.device || pieces.length > 0)
  const n = movable.networks.find((o) => o.id === shift.network)
  if (!n) return null
  const words = (name: 'prefix' | 'vlan' | 'gateway', label: string, hint: string) => (
    <Field
      label={label}
      hint={hint}
      mono
      error={error(name)}
      value={shift[name] ?? ''}
      onChange={(e) => {
        onChange({ [name]: e.target.value })
      }}
    />
  )
  return (
    <fieldset className="border border-seam px-3 pb-3 pt-1 mt-3">
      <legend className="px-1 font-semibold">
        {n.name} <span className="mono font-normal text-ink-2">{n.prefix}</span>
        {n.vlan > 0 && <span className="font-normal text-ink-2">, VLAN {n.vlan}</span>}
      </legend>
      <div className="grid grid-cols-[repeat(auto-fill,minmax(190px,1fr))] gap-3">
        {!shift.into && (
          <>
            {words(
              'prefix',
              'New subnet',
              n.free ? `Empty to stay; ${n.free} is free` : `Empty to stay in ${n.prefix}`,
            )}
            {words('vlan', 'New VLAN id', n.vlan > 0 ? `Empty to stay in ${n.vlan}` : 'Empty for none')}
            {words('gateway', 'New gateway', n.gateway ? `Empty for the rule; it is ${n.gateway}` : 'Empty for none')}
          </>
        )}
        <Choice
          label="Host numbers"
          value={shift.rule ?? 'number'}
          options={[
            ...rules,
            ...(movable.standard ? [{ value: 'standard', label: `as ${movable.standard} has it` }] : []),
          ]}
          onChange={(e) => {
            onChange({ rule: e.target.value as AskedShift['rule'] })
          }}
        />
      </div>
      {more && <Elsewhere shift={shift} movable={movable} onChange={onChange} />}
      {pieces.map((p, k) => (
        <PieceForm
          key={k}
          piece={p}
          of={n}
          ports={movable.ports.filter((o) => o.access && o.untagged === n.vlan && n.vlan > 0)}
          error={(field) => error(`pieces[${k}].${field}`)}
          onChange={(change) => {
            onChange({ pieces: pieces.map((o, i) => (i === k ? { ...o, ...change } : o)) })
          }}
          onRemove={() => {
            onChange({ pieces: pieces.filter((_, i) => i !== k) })
          }}
        />
      ))}
      <div className="flex flex-wrap gap-3 mt-2 items-center">
        <label className="flex gap-1.5 items-center">
          <input
            type="checkbox"
            checked={!!shift.grow}
            onChange={(e) => {
              onChange({ grow: e.target.checked })
            }}
          />
          Pools grow with the network
        </label>
        <button
          type="button"
          className="underline"
          aria-expanded={more}
          onClick={() => {
            setMore(!more)
          }}
        >
          {more ? 'Less' : 'Join, split or route it elsewhere'}
        </button>
        {more && (
          <SmallButton
            onClick={() => {
              onChange({ pieces: [...pieces, { name: `${n.name} ${pieces.length + 2}`, takes: '', prefix: '' }] })
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

/** Another network that it joins, or another device that routes it. */
function Elsewhere({
  shift,
  movable,
  onChange,
}: {
  shift: AskedShift
  movable: Movable
  onChange: (change: Partial<AskedShift>) => void
}) {
  const parents = movable.devices.find((d) => d.id === shift.device)?.parents ?? []
  return (
    <div className="grid grid-cols-[repeat(auto-fill,minmax(190px,1fr))] gap-3 mt-2">
      <Choice
        label="Becomes part of"
        value={shift.into ?? ''}
        options={[
          { value: '', label: 'stays a network of its own' },
          ...movable.networks.filter((o) => o.id !== shift.network).map((o) => ({ value: o.id, label: o.name })),
        ]}
        onChange={(e) => {
          onChange({ into: e.target.value })
        }}
      />
      <Choice
        label="Routed by"
        value={shift.device ?? ''}
        options={[
          { value: '', label: 'the same device' },
          ...movable.devices.map((d) => ({ value: d.id, label: d.name })),
        ]}
        onChange={(e) => {
          onChange({ device: e.target.value, parent: '' })
        }}
      />
      {shift.device && (
        <Choice
          label="Carried by its interface"
          value={shift.parent ?? ''}
          options={[
            { value: '', label: 'none: the device has VLANs of its own' },
            ...parents.map((p) => ({ value: p, label: p })),
          ]}
          onChange={(e) => {
            onChange({ parent: e.target.value })
          }}
        />
      )}
    </div>
  )
}
