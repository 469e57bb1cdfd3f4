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

/** Formats are dear to make, and a list draws many times in one zone. */
const formats = new Map<string, Intl.DateTimeFormat>()

function exactly(at: Date, zone: string | undefined): string {
  const key = zone ?? ''
  let format = formats.get(key)
  if (!format) {
    format = new Intl.DateTimeFormat('en-GB', { dateStyle: 'medium', timeStyle: 'medium', timeZone: zone })
    formats.set(key, format)
  }
  return format.format(at)
}

/** The time of day, with the day where it is another than today. */
function onTheClock(at: Date, zone: string | undefined): string {
  const day = (d: Date) => d.toLocaleDateString('en-GB', { day: 'numeric', month: 'short', timeZone: zone })
  const time = at.toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit', timeZone: zone })
  return day(at) === day(new Date()) ? time : `${time} on ${day(at)}`
}

/** When something ends, and that it has ended once it has, also on a page that stays open. */
export function Ends({ at, zone }: { at: string; zone?: string }) {
  const ended = useSyncExternalStore(subscribe, () => new Date(at).getTime() <= Date.now())
  return ended ? 'ended' : <When at={at} zone={zone} />
}

/** A time relative to now, as an age, or on the clock, with the exact one, in the site's zone, on hover. */
export function When({ at, zone, clock: onClock, age }: { at: string; zone?: string; clock?: boolean; age?: boolean }) {
  const date = new Date(at)
  const says = useSyncExternalStore(subscribe, () =>
    onClock ? onTheClock(date, zone || undefined) : relative(date, Date.now()).replace(age ? ' ago' : '', ''),
  )
  const exact = exactly(date, zone || undefined)
  return (
    <time dateTime={at} title={zone ? `${exact} (${zone})` : exact}>
      {says}
    </time>
  )
}
