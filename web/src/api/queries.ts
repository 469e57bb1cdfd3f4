import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect } from 'react'
import { api, call, type Schemas } from './client'

export const useSession = () =>
  useQuery({ queryKey: ['session'], queryFn: () => call(api.GET('/api/session')), staleTime: Infinity })

export const useSites = () => useQuery({ queryKey: ['sites'], queryFn: () => call(api.GET('/api/sites')) })

export const useOrders = () => useQuery({ queryKey: ['orders'], queryFn: () => call(api.GET('/api/orders')) })

export const useStandards = () => useQuery({ queryKey: ['standards'], queryFn: () => call(api.GET('/api/standards')) })

export const useOptions = () =>
  useQuery({ queryKey: ['options'], queryFn: () => call(api.GET('/api/options')), staleTime: Infinity })

export const useHistory = (site: string) =>
  useQuery({ queryKey: ['history', site], queryFn: () => call(api.GET('/api/sites/{site}/history', { params: { path: { site } } })) })

export const useOrder = (order: number | undefined) =>
  useQuery({
    queryKey: ['order', order],
    enabled: order !== undefined,
    queryFn: () => call(api.GET('/api/orders/{order}', { params: { path: { order: order! } } })),
  })

type OrderAction = '/api/orders/{order}/rehearse' | '/api/orders/{order}/push' | '/api/orders/{order}/rebase'

/** Rehearse, push or rebase an order; the answer becomes what its page shows. */
export function useOrderAction(path: OrderAction) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (head: Schemas['OrderHead']) =>
      call(api.POST(path, { params: { path: { order: head.id } }, body: { version: head.version } })),
    onSuccess: (view) => {
      client.setQueryData(['order', view.head.id], view)
      void client.invalidateQueries({ queryKey: ['view', view.head.site] })
    },
  })
}

/** Asks again for what other technicians, pushes and devices have changed. */
export function useLiveEvents(signedIn: boolean) {
  const client = useQueryClient()
  useEffect(() => {
    if (!signedIn) return
    const stream = new EventSource('/api/events')
    const again = (...queryKey: unknown[]) => void client.invalidateQueries({ queryKey })
    stream.onmessage = (message) => {
      const event = JSON.parse(message.data as string) as { topic: string; id: string }
      if (event.topic === 'seen') return again('view', event.id)
      if (event.topic === 'site') {
        again('sites')
        again('history', event.id)
        return again('view', event.id)
      }
      again('order', Number(event.id))
      again('orders')
      again('view')
    }
    return () => stream.close()
  }, [client, signedIn])
}
