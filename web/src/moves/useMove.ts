import { useEffect, useRef, useState } from 'react'
import { skipToken, useQuery, useQueryClient } from '@tanstack/react-query'
import { api, call, problemOf, type Schemas } from '../api/client'

export type Plan = Schemas['MovePlan']
export type Move = Schemas['MoveView']
export type Request = Schemas['Request']
export type Shift = Schemas['Shift']
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
  const [old] = useState(() => read(kept) as Move | undefined)
  useEffect(() => {
    if (query.data) localStorage.setItem(kept, JSON.stringify(query.data))
  }, [query.data, kept])
  return { ...query, data: query.data ?? old }
}

function read(key: string): unknown {
  try {
    const text = localStorage.getItem(key)
    return text ? JSON.parse(text) : undefined
  } catch {
    return undefined
  }
}

/** Works a move out as it is asked for; what is typed is sent once nothing was typed for a moment. */
export function usePlan(site: string, request: Request | undefined) {
  const asked = useSettled(request)
  return useQuery({
    queryKey: ['plan-move', site, asked],
    placeholderData: (was: Plan | undefined) => was,
    retry: false,
    staleTime: 30_000,
    queryFn: asked
      ? () => call(api.POST('/api/sites/{site}/plan-move', { params: { path: { site } }, body: asked }))
      : skipToken,
  })
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

const ticksOf = (key: string) => (read(key) ?? []) as Tick[]

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
