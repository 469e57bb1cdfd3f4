import { useSyncExternalStore } from 'react'

// The outcome of what a technician did, said once: read out by a screen reader, and shown above the tray for a while.
type Said = { text: string; count: number }
let said: Said = { text: '', count: 0 }
const listeners = new Set<() => void>()

export function announce(text: string) {
  said = { text, count: said.count + 1 }
  listeners.forEach((tell) => {
    tell()
  })
}

const subscribe = (tell: () => void) => {
  listeners.add(tell)
  return () => listeners.delete(tell)
}

export const useSaid = () => useSyncExternalStore(subscribe, () => said)
