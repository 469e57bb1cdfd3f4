import type { Schemas } from '../api/client'

export type Ruler = Schemas['Ruler']
export type Course = Schemas['Course']
export type Span = Schemas['Span']
export type Selection = { from: number; to: number }

/** The address at an offset of the ruler, as text. */
export function addressAt(ruler: Ruler, offset: number): string {
  const n = ruler.base.split('.').reduce((sum, octet) => sum * 256 + Number(octet), 0) + offset
  return [24, 16, 8, 0].map((bits) => Math.floor(n / 2 ** bits) % 256).join('.')
}

/** A selection as the forms take it. */
export const rangeText = (ruler: Ruler, s: Selection) =>
  s.from === s.to ? addressAt(ruler, s.from) : `${addressAt(ruler, s.from)} - ${addressAt(ruler, s.to)}`

/** Everything drawn at an offset, for the readout. */
export function thingsAt(ruler: Ruler, offset: number): { ref: string; says: string }[] {
  const course = ruler.courses.find((c) => offset >= c.from && offset <= c.to)
  if (!course) return []
  const spans = course.spans.filter((s) => offset >= s.from && offset <= s.to)
  return [
    ...course.pins.filter((p) => p.at === offset).map((p) => ({ ref: p.ref, says: p.what })),
    ...spans.map((s) => ({ ref: s.ref ?? '', says: s.what })).reverse(),
    ...(ruler.ends && offset === 0 ? [{ ref: '', says: 'network address, no host can have it' }] : []),
    ...(ruler.ends && offset === ruler.size - 1 ? [{ ref: '', says: 'broadcast address, no host can have it' }] : []),
    ...(course.seen.includes(offset) ? [{ ref: '', says: 'seen in use' }] : []),
  ]
}
