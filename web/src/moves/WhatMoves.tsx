import { useState } from 'react'
import { Choice, Field } from '../parts/Field'
import { SmallButton } from '../parts/SmallButton'
import { ShiftForm } from './ShiftForm'
import type { Asked, AskedShift, Movable } from './useMove'

type Form = {
  asked: Asked
  movable: Movable
  error: (field: string) => string | undefined
  set: (change: Partial<Asked>) => void
}

/** What moves where: the networks, the whole site, ports. */
export function WhatMoves(form: Form) {
  const { asked, movable, error, set } = form
  const untagged = asked.untagged ?? []
  const [more, setMore] = useState(!!asked.block || untagged.length > 0)
  const shifts = asked.shifts
  const setShifts = (next: AskedShift[]) => {
    set({ shifts: next })
  }
  const rest = movable.networks.filter((n) => !shifts.some((e) => e.network === n.id))
  return (
    <>
      {shifts.map((shift, at) => (
        <ShiftForm
          key={shift.network}
          shift={shift}
          movable={movable}
          error={(field) => error(`shifts[${at}].${field}`)}
          onChange={(change) => {
            setShifts(shifts.map((o, i) => (i === at ? { ...o, ...change } : o)))
          }}
          onRemove={() => {
            setShifts(shifts.filter((_, i) => i !== at))
          }}
        />
      ))}
      <div className="flex flex-wrap gap-2 items-end mt-3">
        {rest.length > 0 && (
          <div className="w-[280px]">
            <Choice
              label={shifts.length === 0 ? 'A network that moves' : 'Another network that moves'}
              value=""
              options={[
                { value: '', label: 'Choose a network…' },
                ...rest.map((n) => ({
                  value: n.id,
                  label: n.vlan > 0 ? `${n.name}, ${n.prefix}, VLAN ${n.vlan}` : `${n.name}, ${n.prefix}`,
                })),
              ]}
              onChange={(e) => {
                setShifts([...shifts, { network: e.target.value }])
              }}
            />
          </div>
        )}
        <button
          type="button"
          className="underline pb-1.5"
          aria-expanded={more}
          onClick={() => {
            setMore(!more)
          }}
        >
          {more ? 'Less' : 'The whole site to another block, or a port’s untagged VLAN'}
        </button>
        {movable.standard && shifts.length > 0 && (
          <button
            type="button"
            className="btn"
            onClick={() => {
              setShifts(shifts.map((e) => ({ ...e, rule: 'standard' })))
            }}
          >
            All of them onto {movable.standard}
          </button>
        )}
        {rest.length > 1 && (
          <button
            type="button"
            className="btn"
            onClick={() => {
              setShifts([...shifts, ...rest.map((n) => ({ network: n.id }))])
            }}
          >
            All {movable.networks.length} networks
          </button>
        )}
      </div>
      {more && <BlockAndPorts {...form} />}
    </>
  )
}

/** The site's block, and the untagged VLANs of ports. */
function BlockAndPorts({ asked, movable, error, set }: Form) {
  const untagged = asked.untagged ?? []
  const rest = movable.ports.filter((p) => !untagged.some((u) => u.interface === p.id))
  return (
    <div className="grid grid-cols-[repeat(auto-fill,minmax(210px,1fr))] gap-3 mt-3">
      <Field
        label="The site to another block"
        hint={`It has ${movable.block}; empty where it keeps that`}
        mono
        error={error('block')}
        value={asked.block ?? ''}
        onChange={(e) => {
          set({ block: e.target.value })
        }}
      />
      {untagged.map((u, at) => {
        const port = movable.ports.find((p) => p.id === u.interface)
        return (
          <div key={u.interface}>
            <Field
              label={`Untagged VLAN of ${port?.name ?? u.interface}`}
              hint={port?.untagged ? `It has ${port.untagged}` : 'It has none'}
              mono
              error={error(`untagged[${at}].vlan`)}
              value={u.vlan}
              onChange={(e) => {
                set({ untagged: untagged.map((o, i) => (i === at ? { ...o, vlan: e.target.value } : o)) })
              }}
            />
            <SmallButton
              onClick={() => {
                set({ untagged: untagged.filter((_, i) => i !== at) })
              }}
            >
              Leave it
            </SmallButton>
          </div>
        )
      })}
      <Choice
        label={untagged.length === 0 ? 'Untagged VLAN of a port' : 'Untagged VLAN of another port'}
        hint="Both ends of its cable change together"
        value=""
        options={[
          { value: '', label: 'Choose a port…' },
          ...rest.map((p) => ({ value: p.id, label: p.untagged ? `${p.name}, untagged ${p.untagged}` : p.name })),
        ]}
        onChange={(e) => {
          set({ untagged: [...untagged, { interface: e.target.value, vlan: '' }] })
        }}
      />
    </div>
  )
}
