import { useCallback, useEffect, useReducer, useState, type KeyboardEvent, type PointerEvent } from 'react'
import { rangeText, thingsAt, type Ruler, type Selection, type Span } from './geometry'
import { pitch, type Row } from './layout'
import type { RulerActions } from './Ruler'

type Props = {
  ruler: Ruler
  rows: Row[]
  /** The part that is selected: what is marked is forgotten when another is. */
  selected: string
  actions: RulerActions
  /** Opens a folded line that is pressed, dragged or moved into. */
  onEnter: (row: Row) => void
}

type Drag = { kind: 'select'; anchor: number } | { kind: 'edge'; span: Span; edge: 'start' | 'end' }

/** What the pointer is doing: where it is, what it drags, what it has marked. */
type Hand = { cursor?: number; drag?: Drag; ghost?: Selection; selection?: Selection; beside: string }

const span = (a: number, b: number): Selection => ({ from: Math.min(a, b), to: Math.max(a, b) })

/** Pointing, dragging and keys on the ruler. */
export function useHand({ ruler, rows, selected, actions, onEnter }: Props) {
  const [hand, set] = useReducer((was: Hand, now: Partial<Hand>) => ({ ...was, ...now }), { beside: selected })
  if (hand.beside !== selected) set({ beside: selected, selection: undefined })
  const [box, setBox] = useState<HTMLElement | null>(null)
  const [drawing, setDrawing] = useState<Element | null>(null)
  const { cursor, drag, ghost, selection } = hand
  const { onSelection } = actions
  // The page is told and does not draw: only the ruler's own layer is drawn again as the pointer moves.
  useEffect(() => {
    onSelection(selection)
  }, [onSelection, selection])
  const select = (s: Selection | undefined) => {
    set({ selection: s })
  }
  const offsetAt = (e: PointerEvent) => {
    const r = drawing?.getBoundingClientRect()
    if (!r) return 0
    const row = rows.findLast((one) => one.y <= e.clientY - r.top) ?? rows[0]
    if (!row) return 0
    return Math.min(row.to, Math.max(row.from, Math.floor(row.x.invert(e.clientX - r.left))))
  }
  const rowOf = (offset: number) => rows.find((row) => offset >= row.from && offset <= row.to)
  const enter = (offset: number) => {
    const row = rowOf(offset)
    if (row?.folded) onEnter(row)
    return row
  }
  const onEdge = useCallback(
    (s: Span, edge: 'start' | 'end', e: PointerEvent) => {
      e.stopPropagation()
      box?.setPointerCapture(e.pointerId)
      set({ drag: { kind: 'edge', span: s, edge }, ghost: whole(ruler, s) })
    },
    [ruler, box],
  )
  const down = (e: PointerEvent) => {
    if (e.button !== 0) return
    box?.setPointerCapture(e.pointerId)
    const at = offsetAt(e)
    select(undefined)
    if (enter(at)?.folded) set({ cursor: undefined })
    else set({ drag: { kind: 'select', anchor: at }, cursor: at })
  }
  const move = (e: PointerEvent) => {
    const at = offsetAt(e)
    if (drag) enter(at)
    if (drag?.kind === 'edge') {
      const was = whole(ruler, drag.span)
      const to = snap(ruler, at, drag.edge)
      const now = drag.edge === 'start' ? span(Math.min(to, was.to), was.to) : span(was.from, Math.max(to, was.from))
      set({ cursor: to, ghost: now })
      return
    }
    set({ cursor: at })
    if (drag && at !== drag.anchor) select(span(at, drag.anchor))
  }
  const up = () => {
    if (drag?.kind === 'edge' && ghost) {
      const was = whole(ruler, drag.span)
      if (was.from !== ghost.from || was.to !== ghost.to) actions.onResize(drag.span, rangeText(ruler, ghost))
      else if (drag.span.ref) actions.onSelect(drag.span.ref)
    } else if (drag?.kind === 'select' && !selection) {
      const [thing] = thingsAt(ruler, drag.anchor).filter((t) => t.ref)
      if (thing) actions.onSelect(thing.ref)
      else select({ from: drag.anchor, to: drag.anchor })
    }
    set({ drag: undefined, ghost: undefined })
  }
  const leave = () => {
    if (!drag) set({ cursor: undefined })
  }
  const key = (e: KeyboardEvent) => {
    const next = keyed(ruler, cursor, e.key)
    if (next !== undefined) {
      e.preventDefault()
      const at = cursor ?? 0
      if (e.shiftKey) select(span(selection ? (selection.from === at ? selection.to : selection.from) : at, next))
      else select(undefined)
      set({ cursor: next })
      const row = enter(next)
      if (row) showRow(box, row)
      else actions.onWindow(next)
    } else if (e.key === 'Enter' && cursor !== undefined) {
      e.preventDefault()
      const [thing] = thingsAt(ruler, cursor).filter((t) => t.ref)
      if (thing) actions.onSelect(thing.ref)
      else select({ from: cursor, to: cursor })
    } else if (e.key === 'Escape') select(undefined)
  }
  return {
    box,
    setBox,
    setDrawing,
    cursor,
    marked: ghost ?? selection,
    selection: drag ? undefined : selection,
    onEdge,
    down,
    move,
    up,
    leave,
    key,
  }
}

/** Scrolls the ruler, and the page, so that a row is in view. */
function showRow(box: HTMLElement | null, { y }: Row) {
  if (!box) return
  if (y < box.scrollTop) box.scrollTop = y
  else if (y + pitch > box.scrollTop + box.clientHeight) box.scrollTop = y + pitch - box.clientHeight
  box.scrollIntoView({ block: 'nearest' })
}

/** Where a key takes the cursor; nowhere for another key. Without a cursor the first key puts it at an end. */
function keyed(ruler: Ruler, cursor: number | undefined, key: string): number | undefined {
  const last = ruler.size - 1
  const steps: Record<string, number> = {
    ArrowLeft: -1,
    ArrowRight: 1,
    ArrowUp: -ruler.course,
    ArrowDown: ruler.course,
    PageUp: -ruler.course,
    PageDown: ruler.course,
    Home: -last,
    End: last,
  }
  const step = steps[key]
  if (step === undefined) return undefined
  if (cursor === undefined) return key === 'End' ? last : 0
  return Math.min(last, Math.max(0, cursor + step))
}

/** Where an edge snaps to the edges of the standard's windows, when near. */
function snap(ruler: Ruler, offset: number, edge: 'start' | 'end'): number {
  const near = Math.max(1, Math.round(ruler.course / 100))
  for (const s of ruler.courses.flatMap((c) => c.spans)) {
    if (s.ref) continue
    const at = edge === 'start' ? s.to + 1 : s.from - 1
    if (Math.abs(offset - at) <= near) return at
  }
  return offset
}

/** The whole of a span, which may be clipped to several courses. */
function whole(ruler: Ruler, of: Span): Selection {
  const parts = ruler.courses.flatMap((c) => c.spans).filter((s) => s.ref === of.ref && s.range === of.range)
  return { from: Math.min(...parts.map((s) => s.from)), to: Math.max(...parts.map((s) => s.to)) }
}
