import { useQuery } from '@tanstack/react-query'
import { useCallback } from 'react'
import { useSearchParams } from 'react-router'
import { api, call, type Schemas } from '../api/client'

/** A question as it stands in the address of the page, so that it can be pasted into a ticket. */
export type Question = { who: string; name: string; type: string; beside: string; against: string }

/** The layer and the question in the address. */
export function useNamesLook() {
  const [params, setParams] = useSearchParams()
  const question: Question = {
    who: params.get('who') ?? '',
    name: params.get('name') ?? '',
    type: params.get('type') ?? 'A',
    beside: params.get('beside') ?? 'internet',
    against: params.get('against') ?? '',
  }
  const set = useCallback(
    (to: Partial<Question> & { layer?: string; resolver?: string; select?: string }) => {
      setParams(() => {
        const next = new URLSearchParams(location.search) // as it is now; what was drawn may be older
        for (const [key, value] of Object.entries(to)) {
          if (value) next.set(key, value)
          else next.delete(key)
        }
        return next
      })
    },
    [setParams],
  )
  return { layer: params.get('layer') ?? '', resolver: params.get('resolver') ?? '', question, set }
}

/** The names of a site, and what one layer holds. What stood there stays until the next is here. */
export const useNames = (site: string, order: number | undefined, layer: string, resolver: string) =>
  useQuery({
    queryKey: ['view', site, 'names', order, layer, resolver],
    queryFn: () =>
      call(api.GET('/api/sites/{site}/names', { params: { path: { site }, query: { order, layer, resolver } } })),
    placeholderData: (was, query) => (query?.queryKey[1] === site ? was : undefined),
  })

/** What comes of a question; nothing is asked without a name. */
export const useAsk = (site: string, order: number | undefined, who: string, q: Question) =>
  useQuery({
    queryKey:
      q.against === 'live' ? ['live', site, who, q.name, q.type] : ['view', site, 'ask', order, who, q.name, q.type],
    enabled: q.name !== '' && who !== '',
    retry: false,
    queryFn: () =>
      call(
        api.GET('/api/sites/{site}/ask', {
          params: { path: { site }, query: { order, who, name: q.name, type: q.type, live: q.against === 'live' } },
        }),
      ),
    placeholderData: (was) => was,
  })

export type NameRow = Schemas['NameRow']
export type Names = Schemas['NamesView']
export type Asked = Schemas['AskedView']
