import { useEffect, useSyncExternalStore } from 'react'
import { api, type Schemas } from '../api/client'

type There = Schemas['Present'] & { order: number; at: number }

const silentFor = 50_000 // ms, after which a browser that says nothing more is taken to be gone

// Who has which order in front of them, by the id of their live events; this browser's own id once it has one.
let own = ''
let there: There[] = []
const listeners = new Set<() => void>()

function set(next: { own?: string; there?: There[] }) {
  own = next.own ?? own
  there = (next.there ?? there).filter((t) => Date.now() - t.at < silentFor)
  listeners.forEach((tell) => {
    tell()
  })
}

/** This browser's live events have begun under an id. */
export function streamIs(id: string) {
  set({ own: id })
}

/** Somebody has come to an order, or left it. */
export function heardPresent(order: number, p: Schemas['Present']) {
  const others = there.filter((t) => t.stream !== p.stream)
  set({ there: order ? [...others, { ...p, order, at: Date.now() }] : others })
}

const subscribe = (tell: () => void) => {
  listeners.add(tell)
  return () => listeners.delete(tell)
}

/** Tells the others which order this browser has in front of it. */
export function usePresent(order: number | undefined) {
  const stream = useSyncExternalStore(subscribe, () => own)
  useEffect(() => {
    if (!stream) return
    // Nothing depends on it: without an answer the others merely do not see this browser.
    api.PUT('/api/presence', { body: { stream, order: order ?? 0 } }).catch(() => undefined)
  }, [stream, order])
}

/** Who else has an order in front of them, in words. */
export function useOthersAt(order: number, me: number | undefined): string {
  const all = useSyncExternalStore(subscribe, () => there)
  const here = all.filter((t) => t.order === order && t.stream !== own)
  const names = [...new Set(here.map((t) => (t.id === me ? 'you, in another browser' : t.who)))]
  return names.join(', ')
}
