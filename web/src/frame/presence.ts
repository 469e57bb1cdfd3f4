import { useEffect, useState } from 'react'
import { useLocation } from 'react-router'
import { api, type Schemas } from '../api/client'
import { shared } from '../parts/shared'

type There = Schemas['Present'] & { order: number; at: number }

const silentFor = 50_000 // ms, after which a browser that says nothing more is taken to be gone

/** Who has which order in front of them, by the id of their live events. */
const there = shared<There[]>([])

/** The id of this browser's own live events, once they have begun. */
const own = shared('')

const heardLately = () => there.get().filter((t) => Date.now() - t.at < silentFor)

/** This browser's live events have begun under an id. */
export function streamIs(id: string) {
  own.set(id)
  there.set(heardLately())
}

/** Somebody has come to an order, or left it. */
export function heardPresent(order: number, p: Schemas['Present']) {
  const others = heardLately().filter((t) => t.stream !== p.stream)
  there.set(order ? [...others, { ...p, order, at: Date.now() }] : others)
}

/** The code of the site whose page this browser shows; none while its window is hidden. */
function useSiteShown() {
  const { pathname } = useLocation()
  const [hidden, setHidden] = useState(document.hidden)
  useEffect(() => {
    const changed = () => setHidden(document.hidden)
    document.addEventListener('visibilitychange', changed)
    return () => document.removeEventListener('visibilitychange', changed)
  }, [])
  return hidden ? undefined : /^\/sites\/([^/]+)/.exec(pathname)?.[1]
}

/**
 * Tells the others which order this browser has in front of it, and the server which site it shows: its devices are
 * read more often while somebody looks.
 */
export function usePresent(order: number | undefined) {
  const stream = own.use()
  const site = useSiteShown()
  useEffect(() => {
    if (!stream) return
    // Nothing depends on it: without an answer the others merely do not see this browser.
    api.PUT('/api/presence', { body: { stream, order: order ?? 0, site } }).catch(() => undefined)
  }, [stream, order, site])
}

/** Who else has an order in front of them, in words. */
export function useOthersAt(order: number, me: number | undefined): string {
  const mine = own.use()
  const here = there.use().filter((t) => t.order === order && t.stream !== mine)
  const names = [...new Set(here.map((t) => (t.id === me ? 'you, in another browser' : t.who)))]
  return names.join(', ')
}
