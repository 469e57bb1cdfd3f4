import { scaleLinear, type ScaleLinear } from 'd3-scale'
import { courseHeight } from './Course'
import type { Course, Ruler } from './geometry'

/** A row of addresses, or several without anything in them that are folded into one line, and where it is drawn. */
export type Row = {
  from: number
  to: number
  course: Course
  last: string
  x: ScaleLinear<number, number>
  y: number
  height: number
  folded: boolean
  /** Addresses of a folded line that a host can have. */
  free: number
}

export const pitch = courseHeight + 32
const foldHeight = 22

/** Whether nothing is in a row. What a standard keeps addresses for is not in it yet. */
const empty = (c: Course) =>
  c.spans.every((s) => !s.ref) && c.pins.length + c.names.length + c.seen.length + c.conflicts.length === 0

/** The rows of a ruler from top to bottom. The first is never folded, nor is one that somebody has gone into. */
export function laid(ruler: Ruler, width: number, open: readonly number[]): Row[] {
  const out: Row[] = []
  for (const course of ruler.courses) {
    const folds = course !== ruler.courses[0] && empty(course) && !open.includes(course.from)
    const above = out.at(-1)
    const free = course.to + 1 - course.from - (ruler.ends && course.to === ruler.size - 1 ? 1 : 0)
    if (folds && above?.folded) {
      above.to = course.to
      above.last = course.last
      above.free += free
      above.x = scaleLinear([above.from, above.to + 1], [0, width - 2])
      continue
    }
    out.push({
      from: course.from,
      to: course.to,
      course,
      last: course.last,
      x: scaleLinear([course.from, course.to + 1], [0, width - 2]),
      y: above ? above.y + above.height : 0,
      height: folds ? foldHeight : pitch,
      folded: folds,
      free,
    })
  }
  return out
}

/** The rows of a folded line. */
export const foldedIn = (ruler: Ruler, row: Row) =>
  ruler.courses.filter((c) => c.from >= row.from && c.to <= row.to).map((c) => c.from)
