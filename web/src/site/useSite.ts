import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useCallback, useEffect, useMemo } from 'react'
import { useSearchParams } from 'react-router'
import { api, call, type Schemas } from '../api/client'
import { useDraftEdit } from '../api/queries'
import { useCurrentOrder } from '../frame/currentOrder'

/** What of the site is on the screen, kept in the address so that it can be pasted into a ticket. */
export function useLook(code: string) {
  const [params, setParams] = useSearchParams()
  const { id, head, take } = useCurrentOrder()
  const asked = Number(params.get('order')) || undefined
  useEffect(() => {
    if (asked && asked !== id) take(asked)
  }, [asked, id, take])
  const order = head && head.site === code && (head.state === 'open' || head.state === 'pushing') ? head.id : undefined
  const look: Schemas['Look'] = useMemo(
    () => ({
      order,
      network: params.get('network') ?? '',
      select: params.get('select') ?? '',
      from: Number(params.get('from')) || 0,
    }),
    [order, params],
  )
  const go = useCallback(
    (to: { network?: string; select?: string; tab?: string; from?: number; finding?: string }) =>
      setParams(
        (now) => {
          const next = new URLSearchParams(now)
          if (to.network !== undefined) next.delete('select')
          if (to.network !== undefined && to.network !== now.get('network')) next.delete('from')
          for (const [key, value] of Object.entries(to)) {
            if (value === undefined || value === '' || value === 0) next.delete(key)
            else next.set(key, String(value))
          }
          if (to.select !== undefined) next.delete('finding')
          return next
        },
        { replace: to.network === undefined && to.tab === undefined },
      ),
    [setParams],
  )
  return { look, go, tab: params.get('tab') ?? 'addresses', finding: params.get('finding') ?? '' }
}

const viewKey = (code: string, look: Schemas['Look']) => ['view', code, look]

export function useView(code: string, look: Schemas['Look']) {
  return useQuery({
    queryKey: viewKey(code, look),
    queryFn: () =>
      call(
        api.GET('/api/sites/{site}/view', {
          params: {
            path: { site: code },
            query: { order: look.order, network: look.network, select: look.select, from: look.from },
          },
        }),
      ),
  })
}

/** One edit, and the page redrawn from its answer; what it made becomes what is looked at. */
export function useEdit(code: string, look: Schemas['Look'], go: (to: { network?: string; select?: string }) => void) {
  const client = useQueryClient()
  return useDraftEdit(look.order, look, (view) => {
    const made = view.made && !view.made.startsWith('option') ? view.made : undefined
    const next = made ? { ...look, network: view.network?.id ?? '', select: made } : look
    client.setQueryData(viewKey(code, next), view)
    if (made) go({ network: next.network, select: made })
  })
}
