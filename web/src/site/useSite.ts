import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useCallback, useEffect, useMemo } from 'react'
import { useSearchParams } from 'react-router'
import { api, call, type Schemas, type View } from '../api/client'
import { laidOver, older, type Kept } from '../api/changes'
import { useDraftEdit } from '../api/queries'
import { useCurrentOrder } from '../frame/currentOrder'

type Look = Schemas['Look']
type To = {
  network?: string
  select?: string
  tab?: string
  from?: number
  finding?: string
  face?: string
  layer?: string
}

/** What of the site is on the screen, kept in the address so that it can be pasted into a ticket. */
export function useLook(code: string) {
  const [params, setParams] = useSearchParams()
  const { id, head, take } = useCurrentOrder()
  const asked = Number(params.get('order')) || undefined
  useEffect(() => {
    if (asked && asked !== id) take(asked)
  }, [asked, id, take])
  const order = head && head.site === code && (head.state === 'open' || head.state === 'pushing') ? head.id : undefined
  const look: Look = useMemo(
    () => ({
      order,
      network: params.get('network') ?? '',
      select: params.get('select') ?? '',
      from: Number(params.get('from')) || 0,
    }),
    [order, params],
  )
  const go = useCallback(
    (to: To) => {
      // The address as it is now: what the page was last drawn with may be older.
      setParams(() => moved(new URLSearchParams(location.search), to), {
        replace: to.network === undefined && to.tab === undefined && to.face === undefined,
      })
    },
    [setParams],
  )
  return {
    look,
    go,
    tab: params.get('tab') ?? 'addresses',
    finding: params.get('finding') ?? '',
    face: params.get('face') ?? '',
  }
}

/** The address of a page after somebody went somewhere on it. */
function moved(now: URLSearchParams, to: To): URLSearchParams {
  const next = new URLSearchParams(now)
  if (to.network !== undefined) next.delete('select')
  if (to.network !== undefined && to.network !== now.get('network')) next.delete('from')
  for (const [key, value] of Object.entries(to)) {
    if (!value) next.delete(key)
    else next.set(key, String(value))
  }
  if (to.select !== undefined) next.delete('finding')
  return next
}

const frameKey = (code: string, l: Look) => ['view', code, 'frame', l.order]
const networkKey = (code: string, l: Look) => [
  'view',
  code,
  'network',
  l.order,
  l.network,
  l.network ? '' : l.select,
  l.from,
]
const partKey = (code: string, l: Look) => ['view', code, 'part', l.order, l.network, l.select]

/** What stood on the page before stays until the answer for the same site is here; a page that went blank between
 * would lose the keyboard focus. */
const sameSite =
  (code: string) =>
  <T>(was: T | undefined, query: { queryKey: readonly unknown[] } | undefined) =>
    query?.queryKey[1] === code ? was : undefined

/** A site's page in its three parts: selecting something asks for the inspected part only. */
export function useView(code: string, look: Look): { view?: View; error: Error | null } {
  const path = { site: code }
  const query = { order: look.order, network: look.network, select: look.select, from: look.from }
  const frame = useQuery({
    queryKey: frameKey(code, look),
    queryFn: () => call(api.GET('/api/sites/{site}/frame', { params: { path, query: { order: look.order } } })),
    placeholderData: sameSite(code),
  })
  const client = useQueryClient()
  const network = useQuery({
    queryKey: networkKey(code, look),
    queryFn: async () => {
      const kept = () => client.getQueryData<Kept>(networkKey(code, look))
      const ask = (have?: string) =>
        call(api.GET('/api/sites/{site}/network', { params: { path, query: { ...query, have } } }))
      return laidOver(kept(), await ask(kept()?.stamp)) ?? laidOver(undefined, await ask())
    },
    structuralSharing: (was, now) => (older(now, was) ? was : now), // what did not change is the same object already
    placeholderData: sameSite(code),
  })
  const part = useQuery({
    queryKey: partKey(code, look),
    queryFn: () => call(api.GET('/api/sites/{site}/part', { params: { path, query } })),
    placeholderData: sameSite(code),
  })
  const view = useMemo(
    () =>
      frame.data && network.data && part.data
        ? { ...frame.data, network: network.data.network, part: part.data }
        : undefined,
    [frame.data, network.data, part.data],
  )
  return { view, error: frame.error ?? network.error ?? part.error }
}

/** One edit, and the page redrawn from its answer; what it made becomes what is looked at. */
export function useEdit(code: string, look: Look, go: (to: To) => void) {
  const client = useQueryClient()
  const kept = client.getQueryData<Kept>(networkKey(code, look))
  return useDraftEdit(look.order, { ...look, have: kept?.stamp }, (changed) => {
    const made = changed.made && !changed.made.startsWith('option:') ? changed.made : undefined
    const now = laidOver(kept, changed.network)
    const next = made ? { ...look, network: now?.network?.id ?? '', select: made } : look
    client.setQueryData(frameKey(code, next), (was?: Schemas['Frame']) => changed.frame ?? patched(was, changed))
    if (now) client.setQueryData(networkKey(code, next), now)
    else void client.invalidateQueries({ queryKey: networkKey(code, look) })
    client.setQueryData(partKey(code, next), changed.part)
    // The list of a new zone is open: what comes next is its names.
    const layer = made?.startsWith('zone:') ? made.slice('zone:'.length) : undefined
    if (made) go({ network: next.network, select: made, ...(layer && { layer }) })
  })
}

/** A frame in which the layers of some networks have changed. */
function patched(was: Schemas['Frame'] | undefined, changed: Schemas['Changed']): Schemas['Frame'] | undefined {
  if (!was) return undefined
  const layers = new Map(changed.layers.map((l) => [l.id, l]))
  return {
    ...was,
    order: changed.order,
    wide: changed.wide,
    layers: was.layers.map((l) => {
      const now = l.id ? layers.get(l.id) : undefined
      return now ? { ...now, overlaps: l.overlaps } : l
    }),
  }
}

/** What a finding in the address is about, looked at once. */
export function useTarget(code: string, look: Look, finding: string, go: (to: To) => void, onGone: () => void) {
  useEffect(() => {
    if (!finding) return
    let gone = false
    const ask = async () => {
      const query = { order: look.order, finding }
      const at = await call(api.GET('/api/sites/{site}/target', { params: { path: { site: code }, query } }))
      if (gone) return
      if (at.there) go({ network: at.network || undefined, select: at.select })
      else onGone()
    }
    void ask().catch(() => undefined) // the page itself says what is wrong
    return () => {
      gone = true
    }
  }, [code, look.order, finding, go, onGone])
}
