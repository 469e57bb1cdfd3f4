import type { Schemas } from './client'

/** A network as it is kept: its view, and the stamp by which the server knows what it looks like. */
export type Kept = { stamp: string; network?: Schemas['NetworkView'] }

type Splice<T> = { at: number; remove: number; put: T[] }

const spliced = <T>(list: T[], splices: Splice<T>[] | undefined): T[] => {
  if (!splices?.length) return list
  const out = [...list]
  for (const s of splices) out.splice(s.at, s.remove, ...s.put)
  return out
}

/** The network an answer shows, laid over the one that is kept where it says only what changed. Nothing where it is a
 * change of another state than the kept one. */
export function laidOver(was: Kept | undefined, answer: Schemas['NetworkAnswer']): Kept | undefined {
  const { stamp = '', network, changed } = answer
  if (!changed) return { stamp, network }
  if (!was?.network) return undefined
  if (was.stamp === stamp) return was
  if (was.stamp !== changed.from) return undefined
  const old = was.network
  const courses = [...old.ruler.courses]
  for (const c of changed.courses ?? []) {
    const course = courses[c.course]
    if (!course) return undefined
    courses[c.course] = {
      ...course,
      spans: c.spans,
      conflicts: c.conflicts,
      pins: spliced(course.pins, c.pins),
      names: spliced(course.names, c.names),
      seen: spliced(course.seen, c.seen),
    }
  }
  return {
    stamp,
    network: {
      ...old,
      ...changed.head,
      ruler: changed.ruler || changed.courses ? { ...old.ruler, ...changed.ruler, courses } : old.ruler,
      rows: spliced(old.rows, changed.rows),
      seen: spliced(old.seen, changed.seen),
    },
  }
}

/** The version of the draft that an answer shows; none for what is of no draft. */
export function versionOf(data: unknown): number | undefined {
  const of = data as
    Partial<Schemas['Frame'] & { head: Schemas['Head']; network: Schemas['NetworkView']; version: number }> | undefined
  return of?.order?.version ?? of?.head?.version ?? of?.network?.version ?? of?.version
}

const asOf = (data: unknown) => (data as Partial<Schemas['OrderView']> | undefined)?.asOf

const less = (a: number | undefined, b: number | undefined) => a !== undefined && b !== undefined && a < b

/** Whether an answer shows an earlier state than another of the same thing: of a draft by its version, of an order also
 * by when it was read. */
export const older = (data: unknown, than: unknown) =>
  less(versionOf(data), versionOf(than)) || (versionOf(data) === versionOf(than) && less(asOf(data), asOf(than)))
