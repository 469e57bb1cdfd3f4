import { useSyncExternalStore } from 'react'

// Whether the server said that the session is over. The page stays as it is meanwhile, with what was typed in it.
let lost = false
const listeners = new Set<() => void>()

export function sessionIs(over: boolean) {
  if (lost === over) return
  lost = over
  listeners.forEach((tell) => {
    tell()
  })
}

const subscribe = (tell: () => void) => {
  listeners.add(tell)
  return () => listeners.delete(tell)
}

export const useSessionLost = () => useSyncExternalStore(subscribe, () => lost)
