import { useEffect, useRef, useState } from 'react'
import { useSearchParams } from 'react-router'

const pause = 250 // ms without a key, after which the address follows what is typed

/** What narrows a list down, kept in the page's address: a link shows the same lines, and so does going back. The list
 * follows each key, the address when no more come; it is one entry of the history throughout. */
export function useInAddress(key: string) {
  const [params, setParams] = useSearchParams()
  const there = params.get(key) ?? ''
  const [typed, setTyped] = useState(there)
  const [seen, setSeen] = useState(there)
  // Of the page that is there when it is written, and of the address as it is then: somebody may have gone on
  // meanwhile.
  const write = useRef(setParams)
  useEffect(() => {
    write.current = setParams
  }, [setParams])
  const waits = useRef<ReturnType<typeof setTimeout>>(undefined)
  if (there !== seen) {
    // Somebody went to another address, or this is what was typed.
    setSeen(there)
    setTyped(there)
  }
  useEffect(
    () => () => {
      clearTimeout(waits.current)
    },
    [],
  )
  const set = (to: string) => {
    setTyped(to)
    clearTimeout(waits.current)
    waits.current = setTimeout(() => {
      write.current(
        () => {
          const next = new URLSearchParams(location.search)
          if (to) next.set(key, to)
          else next.delete(key)
          return next
        },
        { replace: true },
      )
    }, pause)
  }
  return [typed, set] as const
}

/** A switch kept in the page's address. */
export function useSwitchInAddress(key: string) {
  const [value, set] = useInAddress(key)
  return [
    value !== '',
    (on: boolean) => {
      set(on ? 'yes' : '')
    },
  ] as const
}
