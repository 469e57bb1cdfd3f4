import { useEffect, useRef, useState } from 'react'
import { skipToken, useQuery, useQueryClient } from '@tanstack/react-query'
import { api, call, problemOf, type Schemas } from '../api/client'
import { kept as keptAt } from '../parts/useKept'

export type Plan = Schemas['MovePlan']
export type Move = Schemas['MoveView']
export type Asked = Schemas['Asked']
export type AskedShift = Schemas['AskedShift']
export type AskedPiece = Schemas['AskedPiece']
export type Movable = Schemas['Movable']
export type Visit = Schemas['MoveVisit']

export const useMoves = () => useQuery({ queryKey: ['moves'], queryFn: () => call(api.GET('/api/moves')) })

export const useMovable = (site: string) =>
  useQuery({
    queryKey: ['movable', site],
    queryFn: () => call(api.GET('/api/sites/{site}/movable', { params: { path: { site } } })),
  })

/** A move, with its ticks kept for a page that is opened where there is no connection. */
export function useMove(id: number) {
  const kept = `lithos-move-${id}`
  const query = useQuery({
    queryKey: ['move', id],
    queryFn: () => call(api.GET('/api/moves/{move}', { params: { path: { move: id } } })),
  })
  const [old] = useState(() => keptAt(kept) as Move | undefined)
  useEffect(() => {
    if (query.data) localStorage.setItem(kept, JSON.stringify(query.data))
  }, [query.data, kept])
  return { ...query, data: query.data ?? old }
}

/**
 * Works a move out as it is asked for; what is typed is sent once nothing was typed for a moment. Where it cannot be
 * worked out, the plan is the last one that could.
 */
export function usePlan(site: string, asked: Asked | undefined) {
  const settled = useSettled(asked)
  const query = useQuery({
    queryKey: ['plan-move', site, settled],
    placeholderData: (was: Plan | undefined) => was,
    retry: false,
    staleTime: 30_000,
    queryFn: settled
      ? () => call(api.POST('/api/sites/{site}/plan-move', { params: { path: { site } }, body: settled }))
      : skipToken,
  })
  const [last, setLast] = useState<Plan>()
  if (query.data && query.data !== last) setLast(query.data)
  return {
    plan: asked && (query.data ?? last),
    error: query.error,
    isOld: query.isPlaceholderData || !!query.error,
  }
}

/** How long nothing must be typed before what was typed is sent, in milliseconds. */
const settlesAfter = 350

function useSettled<T>(value: T): T {
  const [settled, setSettled] = useState(value)
  const text = JSON.stringify(value)
  const latest = useRef(value)
  useEffect(() => {
    latest.current = value
  })
  useEffect(() => {
    const wait = setTimeout(() => {
      setSettled(latest.current)
    }, settlesAfter)
    return () => {
      clearTimeout(wait)
    }
  }, [text])
  return settled
}

type Tick = { seq: number; on: boolean; at: string }

const ticksOf = (key: string) => (keptAt(key) ?? []) as Tick[]

/** Ticks of visits: shown at once, kept where there is no connection, and sent when it is back. */
export function useTicks(id: number) {
  const key = `lithos-ticks-${id}`
  const client = useQueryClient()
  const [waiting, setWaiting] = useState<Tick[]>(() => ticksOf(key))
  const [problem, setProblem] = useState<string>()
  const keep = (ticks: Tick[]) => {
    localStorage.setItem(key, JSON.stringify(ticks))
    setWaiting(ticks)
  }
  const send = async (ticks: Tick[]) => {
    for (const [i, tick] of ticks.entries()) {
      try {
        const move = await call(api.POST('/api/moves/{move}/visits', { params: { path: { move: id } }, body: tick }))
        client.setQueryData(['move', id], move)
        setProblem(undefined)
      } catch (e) {
        const what = problemOf(e)
        if (what.status === 0) return // no connection: it waits
        setProblem(what.message)
      }
      keep(ticks.slice(i + 1))
    }
  }
  const tick = (seq: number, on: boolean) => {
    const next = [...waiting.filter((t) => t.seq !== seq), { seq, on, at: new Date().toISOString() }]
    keep(next)
    void send(next)
  }
  useEffect(() => {
    const again = () => void send(ticksOf(key))
    again()
    window.addEventListener('online', again)
    const every = setInterval(again, 5_000)
    return () => {
      window.removeEventListener('online', again)
      clearInterval(every)
    }
    // eslint-disable-next-line react-hooks/exhaustive-deps -- once for each move
  }, [key])
  return { tick, waiting, problem }
}
