import { useSyncExternalStore } from 'react'

const steps: [number, Intl.RelativeTimeFormatUnit][] = [
  [60, 'second'],
  [60, 'minute'],
  [24, 'hour'],
  [30, 'day'],
  [12, 'month'],
  [Infinity, 'year'],
]
const words = new Intl.RelativeTimeFormat('en', { numeric: 'auto', style: 'short' })

function relative(at: Date, now: number): string {
  let n = (at.getTime() - now) / 1000
  if (Math.abs(n) < 45) return n > 0 ? 'in a moment' : 'now'
  for (const [size, unit] of steps) {
    if (Math.abs(n) < size) return words.format(Math.round(n), unit)
    n /= size
  }
  return at.toLocaleDateString()
}

const every = 15_000 // ms
const listeners = new Set<() => void>()
let clock: ReturnType<typeof setInterval> | undefined

/** One clock for every time on the page; it stands still while none is shown. */
function subscribe(tell: () => void) {
  listeners.add(tell)
  clock ??= setInterval(() => {
    listeners.forEach((one) => {
      one()
    })
  }, every)
  return () => {
    listeners.delete(tell)
    if (listeners.size > 0) return
    clearInterval(clock)
    clock = undefined
  }
}

/** A time relative to now, with the exact one, in the site's zone, on hover. */
export function When({ at, zone }: { at: string; zone?: string }) {
  const date = new Date(at)
  const says = useSyncExternalStore(subscribe, () => relative(date, Date.now()))
  const exact = date.toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'medium', timeZone: zone || undefined })
  return (
    <time dateTime={at} title={zone ? `${exact} (${zone})` : exact}>
      {says}
    </time>
  )
}
