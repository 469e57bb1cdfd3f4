const steps: [number, Intl.RelativeTimeFormatUnit][] = [
  [60, 'second'],
  [60, 'minute'],
  [24, 'hour'],
  [30, 'day'],
  [12, 'month'],
  [Infinity, 'year'],
]
const words = new Intl.RelativeTimeFormat('en', { numeric: 'auto', style: 'short' })

function relative(at: Date): string {
  let n = (at.getTime() - Date.now()) / 1000
  if (Math.abs(n) < 45) return n > 0 ? 'in a moment' : 'now'
  for (const [size, unit] of steps) {
    if (Math.abs(n) < size) return words.format(Math.round(n), unit)
    n /= size
  }
  return at.toLocaleDateString()
}

/** A time relative to now, with the exact one, in the site's zone, on hover. */
export function When({ at, zone }: { at: string; zone?: string }) {
  const date = new Date(at)
  const exact = date.toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'medium', timeZone: zone || undefined })
  return (
    <time dateTime={at} title={zone ? `${exact} (${zone})` : exact}>
      {relative(date)}
    </time>
  )
}
