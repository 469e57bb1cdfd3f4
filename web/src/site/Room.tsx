import { useState } from 'react'
import { api, call, problemOf } from '../api/client'
import { Choice } from '../parts/Field'

const sizes = [30, 29, 28, 27, 26, 25, 24, 23, 22].map((bits) => ({
  value: String(bits),
  label: `/${bits}, ${2 ** (32 - bits) - 2} hosts`,
}))

/** Asks the server for the next free prefix of a size, an unused VLAN id and a gateway. */
export function Room({
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
      const query = { bits: Number(bits), order }
      onRoom(await call(api.GET('/api/sites/{site}/room', { params: { path: { site }, query } })))
    } catch (e) {
      setProblem(problemOf(e).message)
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
