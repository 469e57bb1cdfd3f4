import { useSyncExternalStore } from 'react'

/** A value that parts of the page far from one another share: read where it is drawn, set where something happens. */
export function shared<T>(first: T) {
  let value = first
  const listeners = new Set<() => void>()
  const subscribe = (tell: () => void) => {
    listeners.add(tell)
    return () => listeners.delete(tell)
  }
  const get = () => value
  return {
    get,
    set: (next: T) => {
      if (Object.is(value, next)) return
      value = next
      listeners.forEach((tell) => {
        tell()
      })
    },
    use: () => useSyncExternalStore(subscribe, get),
  }
}
