import { createContext, useCallback, useContext, useMemo, useState, type ReactNode } from 'react'
import { useOrder } from '../api/queries'
import type { Schemas } from '../api/client'
import { usePresent } from './presence'

type Current = {
  id: number | undefined
  head: Schemas['Head'] | undefined
  take: (id: number | undefined) => void
}
const Context = createContext<Current>({ id: undefined, head: undefined, take: () => {} })
const key = 'lithos.order'

/** At sign-in: the work order that was worked on last, on whichever machine, is taken up. */
export function pickUp(order: number | undefined) {
  if (order) localStorage.setItem(key, String(order))
}

/** The work order this browser is working on; it stays over pages and reloads. */
export function CurrentOrder({ children }: { children: ReactNode }) {
  const [id, setId] = useState<number | undefined>(() => Number(localStorage.getItem(key)) || undefined)
  const order = useOrder(id)
  const head = order.data?.head.id === id ? order.data?.head : undefined
  usePresent(head?.state === 'open' || head?.state === 'pushing' ? id : undefined)
  const take = useCallback((next: number | undefined) => {
    if (next) localStorage.setItem(key, String(next))
    else localStorage.removeItem(key)
    setId(next)
  }, [])
  const value = useMemo(() => ({ id, head, take }), [id, head, take])
  return <Context.Provider value={value}>{children}</Context.Provider>
}

export const useCurrentOrder = () => useContext(Context)
