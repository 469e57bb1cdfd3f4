import { useEffect, useState } from 'react'

/** The time in milliseconds since 1970, told anew each period. */
export function useNow(every: number): number {
  const [now, setNow] = useState(() => Date.now())
  useEffect(() => {
    const clock = setInterval(() => {
      setNow(Date.now())
    }, every)
    return () => {
      clearInterval(clock)
    }
  }, [every])
  return now
}
