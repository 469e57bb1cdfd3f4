import { useEffect, useState } from 'react'
import { useSaid } from '../parts/announce'

const shownFor = 5000 // ms

/** The outcome of the last act: for the ear as long as it is the last, for the eye a few seconds. */
export function Announcer() {
  const { text, count } = useSaid()
  const [over, setOver] = useState(0)
  useEffect(() => {
    const done = setTimeout(() => {
      setOver(count)
    }, shownFor)
    return () => {
      clearTimeout(done)
    }
  }, [count])
  return (
    <div
      role="status"
      aria-live="polite"
      className={
        text && over !== count
          ? 'pointer-events-none absolute left-4 min-[1001px]:left-[256px] bottom-full mb-2 z-30 ' +
            'max-w-[min(560px,92vw)] bg-basalt text-on-basalt border border-basalt-line rounded-sm px-3 py-1.5 ' +
            'print:hidden'
          : 'sr-only'
      }
    >
      {text}
    </div>
  )
}
