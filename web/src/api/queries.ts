import {
  skipToken,
  useInfiniteQuery,
  useMutation,
  useQuery,
  useQueryClient,
  type QueryClient,
} from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { heardPresent, streamIs } from '../frame/presence'
import { versionOf } from './changes'
import { api, call, problemOf, type Change, type Problem, type Schemas } from './client'
import { liveStream } from './live'
import { paced } from './paced'

export const useSession = () =>
  useQuery({ queryKey: ['session'], queryFn: () => call(api.GET('/api/session')), staleTime: Infinity })

export const useSites = () => useQuery({ queryKey: ['sites'], queryFn: () => call(api.GET('/api/sites')) })

export const useOrders = () => useQuery({ queryKey: ['orders'], queryFn: () => call(api.GET('/api/orders')) })

export const useStandards = () => useQuery({ queryKey: ['standards'], queryFn: () => call(api.GET('/api/standards')) })

export const useOptions = () =>
  useQuery({ queryKey: ['options'], queryFn: () => call(api.GET('/api/options')), staleTime: Infinity })

export const useHistory = (site: string) =>
  useQuery({
    queryKey: ['history', site],
    queryFn: () => call(api.GET('/api/sites/{site}/history', { params: { path: { site } } })),
  })

export function useOrder(order: number | undefined) {
  const asked = useQuery({
    queryKey: ['order', order],
    queryFn:
      order === undefined ? skipToken : () => call(api.GET('/api/orders/{order}', { params: { path: { order } } })),
  })
  useWindowOf(asked.data?.head)
  return asked
}

const longestTimer = 0x7fffffff // ms: a timer with more ends at once

/** Asks for an order again when its change window opens or ends: what may be done with it is another from then on. */
function useWindowOf(head: Schemas['Head'] | undefined) {
  const client = useQueryClient()
  const { id, notBefore, notAfter } = head ?? {}
  useEffect(() => {
    const ahead = [notBefore, notAfter]
      .map((at) => (at ? new Date(at).getTime() - Date.now() : 0))
      .filter((ms) => ms > 0)
    const timers = ahead.map((ms) =>
      setTimeout(() => void client.invalidateQueries({ queryKey: ['order', id] }), Math.min(ms + 250, longestTimer)),
    )
    return () => timers.forEach(clearTimeout)
  }, [client, id, notBefore, notAfter])
}

// Changes of one draft are sent one after another, and each on the version the one
// before it left: what this browser did itself, its technician has seen.
const draftOf = (order: number | undefined) => ({ id: `draft ${order}` })
const left = new Map<number, number>()
const seen = (head: Schemas['Head']) => Math.max(head.version, left.get(head.id) ?? 0)
const leave = (order: number, version: number) => left.set(order, Math.max(version, left.get(order) ?? 0))

/** Puts an answer to this browser's own change in the place of what is shown. Answers
 * that are under way or kept are from before it, and would bring back what it changed;
 * what they would have told beside that is asked for again. */
async function answered(
  client: QueryClient,
  head: Schemas['Head'],
  shows: (was?: Schemas['OrderView']) => Schemas['OrderView'] | undefined,
) {
  leave(head.id, head.version)
  const order = ['order', head.id]
  const asked = client.isFetching({ queryKey: order }) > 0
  await Promise.all([client.cancelQueries({ queryKey: ['view'] }), client.cancelQueries({ queryKey: order })])
  client.removeQueries({ queryKey: ['view'], type: 'inactive' })
  client.setQueryData(order, shows)
  if (asked) void client.invalidateQueries({ queryKey: order })
}

/** Shows a draft as an edit left it. */
const show = (client: QueryClient, head: Schemas['Head']) => answered(client, head, (was) => was && { ...was, head })

/** Shows an order as an answer tells of it. */
const put = (client: QueryClient, view: Schemas['OrderView']) => answered(client, view.head, () => view)

/** What is shown of a draft turned out to be old: asks for all of it again. */
const refresh = (client: QueryClient, order: number | undefined) =>
  Promise.all([
    client.invalidateQueries({ queryKey: ['order', order] }),
    client.invalidateQueries({ queryKey: ['view'] }),
  ])

/** One edit: sent, checked, stored; onChanged draws the page from the answer. */
export function useDraftEdit(
  order: number | undefined,
  look: Schemas['Look'],
  onChanged: (changed: Schemas['Changed']) => void,
) {
  const client = useQueryClient()
  return useMutation({
    scope: draftOf(order),
    mutationFn: ({ head, change }: { head: Schemas['Head']; change: Change }) =>
      call(
        api.POST('/api/orders/{order}/edits', {
          params: { path: { order: head.id } },
          body: { ...change, version: seen(head), look },
        }),
      ),
    onSuccess: async (changed) => {
      if (changed.order) await show(client, changed.order)
      onChanged(changed)
      // Somebody who went on to another part meanwhile looks at an older draft.
      void client.refetchQueries({
        queryKey: ['view'],
        type: 'active',
        predicate: (q) => versionOf(q.state.data) !== changed.order?.version,
      })
    },
    onError: () => void refresh(client, order),
  })
}

/** Takes back the last step of a draft, or does it again. */
export function useFlip(order: number) {
  const client = useQueryClient()
  return useMutation({
    scope: draftOf(order),
    mutationFn: ({ head, redo, others }: { head: Schemas['Head']; redo?: boolean; others?: boolean }) => {
      const body = { version: seen(head), look: {} }
      const params = { path: { order: head.id } }
      if (redo) return call(api.POST('/api/orders/{order}/redo', { params, body }))
      return call(api.POST('/api/orders/{order}/undo', { params, body: { ...body, others } }))
    },
    onSuccess: async (view) => {
      if (view.order) await show(client, view.order)
    },
    onSettled: () => refresh(client, order),
  })
}

/** An edit whose answer tells what became of it, and of the draft its version alone: what the draft shows is asked for
 * again, and what is done to the draft meanwhile waits for that. */
export function useDraftStep<A extends { version: number; order?: number }>(
  head: Schemas['Head'] | undefined,
  request: (version: number) => Promise<A>,
  told: (answer: A) => unknown,
) {
  const client = useQueryClient()
  return useMutation({
    scope: draftOf(head?.id),
    mutationFn: () => request(head ? seen(head) : 0),
    onSuccess: async (a) => {
      const order = head?.id ?? a.order
      if (order !== undefined) leave(order, a.version)
      await Promise.all([told(a), refresh(client, order), client.invalidateQueries({ queryKey: ['orders'] })])
    },
    onError: () => void refresh(client, head?.id),
  })
}

/** Anything else done to an order: the answer becomes what its page shows, a refusal is put in words. */
export function useOrderAct(order: number) {
  const client = useQueryClient()
  const [failed, setFailed] = useState<Problem>()
  const { mutateAsync, isPending: busy } = useMutation({
    scope: draftOf(order),
    mutationFn: (request: () => Promise<Schemas['OrderView']>) => request(),
    onSuccess: async (view) => {
      await put(client, view)
      void client.invalidateQueries({ queryKey: ['view', view.head.site] })
      void client.invalidateQueries({ queryKey: ['orders'] })
    },
    onError: () => void refresh(client, order),
  })
  const act = async (request: () => Promise<Schemas['OrderView']>) => {
    setFailed(undefined)
    try {
      await mutateAsync(request)
      return true
    } catch (e) {
      setFailed(problemOf(e))
      return false
    }
  }
  return { act, problem: failed?.message ?? '', fields: failed?.fields ?? {}, instead: failed?.instead ?? {}, busy }
}

/** Clients of an order's rehearsal, a page after another. */
export const useRehearsedClients = (order: number, moving: boolean, enabled: boolean, at: string) =>
  useInfiniteQuery({
    queryKey: ['rehearsed', order, moving, at],
    enabled,
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      call(
        api.GET('/api/orders/{order}/rehearsal/clients', {
          params: { path: { order }, query: { moving, from: pageParam } },
        }),
      ),
    getNextPageParam: (last) => (last.more ? last.from + last.clients.length : undefined),
  })

/** The reply one of them would get. */
export const useRehearsedReply = (order: number, seq: number, at: string) =>
  useQuery({
    queryKey: ['reply', order, seq, at],
    queryFn: () => call(api.GET('/api/orders/{order}/rehearsal/replies/{seq}', { params: { path: { order, seq } } })),
  })

type OrderAction =
  | '/api/orders/{order}/rehearse'
  | '/api/orders/{order}/push'
  | '/api/orders/{order}/rebase'
  | '/api/orders/{order}/wait'

/** Rehearse, push or rebase an order, or leave it to start automatically; the answer becomes what its page shows. */
export function useOrderAction(order: number, path: OrderAction) {
  const client = useQueryClient()
  return useMutation({
    scope: draftOf(order),
    mutationFn: (head: Schemas['Head']) => {
      const params = { path: { order: head.id } }
      const version = seen(head)
      if (path === '/api/orders/{order}/wait') return call(api.POST(path, { params, body: { version, on: true } }))
      return call(api.POST(path, { params, body: { version } }))
    },
    onSuccess: async (view) => {
      await put(client, view)
      void client.invalidateQueries({ queryKey: ['view', view.head.site] })
    },
  })
}

/** Asks again for what other technicians, pushes and devices have changed. */
export function useLiveEvents(signedIn: boolean) {
  const client = useQueryClient()
  useEffect(() => {
    if (!signedIn) return
    const ask = paced((queryKey: unknown[]) => client.invalidateQueries({ queryKey }))
    const again = (...queryKey: unknown[]) => void ask(queryKey)
    // What happened while the connection was away is in no event.
    const back = () => void client.invalidateQueries()
    return liveStream('/api/events', back, (message) => {
      const event = JSON.parse(message.data as string) as Schemas['Event']
      if (event.topic === 'here') {
        if (event.id) streamIs(event.id)
        return
      }
      if (event.topic === 'present') {
        if (event.present) heardPresent(Number(event.id), event.present)
        return
      }
      if (event.topic === 'all') return void client.invalidateQueries()
      if (event.topic === 'work') {
        again('session')
        return
      }
      if (event.topic === 'rounds') {
        again('sites')
        return
      }
      if (event.topic === 'seen') {
        again('view', event.id)
        again('move')
        return
      }
      if (event.topic === 'site') {
        again('sites')
        again('history', event.id)
        again('order') // a draft of the site may have fallen behind
        again('move')
        again('moves')
        again('view', event.id)
        return
      }
      if (event.topic === 'push') {
        again('order', Number(event.id)) // a line of its journal
        return
      }
      again('orders')
      again('move')
      // What this browser's own change left is on the page already; the rest is asked for when somebody looks at it.
      const own = event.version !== undefined && event.version <= (left.get(Number(event.id)) ?? 0)
      if (own) {
        void client.invalidateQueries({ queryKey: ['order', Number(event.id)], refetchType: 'none' })
        return
      }
      again('order', Number(event.id))
      again('view')
    })
  }, [client, signedIn])
}
