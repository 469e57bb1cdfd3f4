import { scaleLinear, type ScaleLinear } from 'd3-scale'
import { memo, useCallback, useEffect, useMemo, useRef, useState } from 'react'
import { Course, courseHeight } from './Course'
import { Legend } from './Legend'
import { Overview } from './Overview'
import { addressAt, rangeText, thingsAt, type Ruler as RulerData, type Selection, type Span } from './geometry'

const pitch = courseHeight + 26
const top = 20

export type RulerActions = {
  onSelect: (ref: string) => void
  onFinding: (id: string) => void
  onCreate: (kind: 'pool' | 'exclusion' | 'reservation' | 'fixed', range: string) => void
  onResize: (span: Span, range: string) => void
  onWindow: (from: number) => void
  onSelection: (s: Selection | undefined) => void
}

type Drag = { kind: 'select'; anchor: number } | { kind: 'edge'; span: Span; edge: 'start' | 'end' }

/** The addresses of a network, drawn to scale; pointing, dragging and keys work on it. */
export function Ruler({
  ruler,
  selected,
  canExclude,
  actions,
}: {
  ruler: RulerData
  selected: string
  canExclude: boolean
  actions: RulerActions
}) {
  const box = useRef<HTMLDivElement>(null)
  const drawing = useRef<SVGSVGElement>(null)
  const [width, setWidth] = useState(720)
  const [cursor, setCursor] = useState<number>()
  const [drag, setDrag] = useState<Drag>()
  const [ghost, setGhost] = useState<Selection>()

  useEffect(() => {
    const watch = new ResizeObserver(([entry]) => setWidth(Math.max(320, entry.contentRect.width)))
    watch.observe(box.current!)
    return () => watch.disconnect()
  }, [])
  const [selection, select] = useState<Selection>()
  // The page is told and does not draw: only the ruler's own layer moves under the
  // hand. Whom to tell may change with what devices have seen; the selection stays.
  const tell = useRef(actions.onSelection)
  useEffect(() => {
    tell.current = actions.onSelection
  })
  const setSelection = useCallback((s: Selection | undefined) => {
    select(s)
    tell.current(s)
  }, [])
  useEffect(() => setCursor(undefined), [ruler.base, ruler.size])
  useEffect(() => setSelection(undefined), [ruler.base, ruler.size, selected, setSelection])

  const scales = useMemo(
    () => ruler.courses.map((c) => scaleLinear([c.from, c.to + 1], [0, width - 2])),
    [ruler.courses, width],
  )
  const offsetAt = (e: React.PointerEvent | PointerEvent) => {
    const r = drawing.current!.getBoundingClientRect()
    const row = Math.min(ruler.courses.length - 1, Math.max(0, Math.floor((e.clientY - r.top) / pitch)))
    const c = ruler.courses[row]
    return Math.min(c.to, Math.max(c.from, Math.floor(scales[row].invert(e.clientX - r.left))))
  }
  /** Where an edge snaps to the edges of the standard's windows, when near. */
  const snap = useCallback(
    (offset: number, edge: 'start' | 'end') => {
      const near = Math.max(1, Math.round(ruler.course / 100))
      for (const s of ruler.courses.flatMap((c) => c.spans)) {
        if (s.ref) continue
        const at = edge === 'start' ? s.to + 1 : s.from - 1
        if (Math.abs(offset - at) <= near) return at
      }
      return offset
    },
    [ruler],
  )
  /** The whole of a span, which may be clipped to several courses. */
  const whole = useCallback(
    (span: Span): Selection => {
      const parts = ruler.courses.flatMap((c) => c.spans).filter((s) => s.ref === span.ref && s.range === span.range)
      return { from: Math.min(...parts.map((s) => s.from)), to: Math.max(...parts.map((s) => s.to)) }
    },
    [ruler],
  )
  const onEdge = useCallback(
    (span: Span, edge: 'start' | 'end', e: React.PointerEvent) => {
      e.stopPropagation()
      box.current!.setPointerCapture(e.pointerId)
      setDrag({ kind: 'edge', span, edge })
      setGhost(whole(span))
    },
    [whole],
  )
  const down = (e: React.PointerEvent) => {
    if (e.button !== 0) return
    box.current!.setPointerCapture(e.pointerId)
    const at = offsetAt(e)
    setDrag({ kind: 'select', anchor: at })
    setCursor(at)
    setSelection(undefined)
  }
  const move = (e: React.PointerEvent) => {
    const at = offsetAt(e)
    if (!drag) {
      setCursor(at)
      return
    }
    if (drag.kind === 'select') {
      setCursor(at)
      if (at !== drag.anchor) setSelection({ from: Math.min(at, drag.anchor), to: Math.max(at, drag.anchor) })
      return
    }
    const span = whole(drag.span)
    const to = snap(at, drag.edge)
    setCursor(to)
    setGhost(
      drag.edge === 'start'
        ? { from: Math.min(to, span.to), to: span.to }
        : { from: span.from, to: Math.max(to, span.from) },
    )
  }
  const up = () => {
    if (drag?.kind === 'edge' && ghost) {
      const was = whole(drag.span)
      if (was.from !== ghost.from || was.to !== ghost.to) actions.onResize(drag.span, rangeText(ruler, ghost))
    } else if (drag?.kind === 'select' && !selection) {
      const [thing] = thingsAt(ruler, drag.anchor).filter((t) => t.ref)
      if (thing) actions.onSelect(thing.ref)
      else setSelection({ from: drag.anchor, to: drag.anchor })
    }
    setDrag(undefined)
    setGhost(undefined)
  }
  const key = (e: React.KeyboardEvent) => {
    const last = ruler.size - 1
    const at = cursor ?? 0
    const page = ruler.course
    const moves: Record<string, number> = {
      ArrowLeft: at - 1,
      ArrowRight: at + 1,
      ArrowUp: at - page,
      ArrowDown: at + page,
      PageUp: at - page,
      PageDown: at + page,
      Home: 0,
      End: last,
    }
    if (e.key in moves) {
      e.preventDefault()
      const next = Math.min(last, Math.max(0, cursor === undefined ? (e.key === 'End' ? last : 0) : moves[e.key]))
      if (e.shiftKey) {
        const from = selection ? (selection.from === at ? selection.to : selection.from) : at
        setSelection({ from: Math.min(from, next), to: Math.max(from, next) })
      } else setSelection(undefined)
      setCursor(next)
      if (next < ruler.courses[0].from || next > ruler.courses.at(-1)!.to) actions.onWindow(next)
    } else if (e.key === 'Enter' && cursor !== undefined) {
      e.preventDefault()
      const [thing] = thingsAt(ruler, cursor).filter((t) => t.ref)
      if (thing) actions.onSelect(thing.ref)
      else setSelection({ from: cursor, to: cursor })
    } else if (e.key === 'Escape') setSelection(undefined)
  }

  const marked = ghost ?? selection
  const readout = marked
    ? `${rangeText(ruler, marked)} · ${marked.to - marked.from + 1} addresses`
    : cursor !== undefined
      ? `${addressAt(ruler, cursor)} · ${
          thingsAt(ruler, cursor)
            .map((t) => t.says)
            .join(', ') || 'free'
        }`
      : 'Point at an address, or drag over some'
  return (
    <div>
      {ruler.bins && <Overview ruler={ruler} onWindow={actions.onWindow} />}
      <div
        ref={box}
        role="group"
        aria-roledescription="ruler"
        aria-label="Ruler: arrows move by one address, Shift extends, Enter opens"
        tabIndex={0}
        onKeyDown={key}
        onPointerDown={down}
        onPointerMove={move}
        onPointerUp={up}
        onPointerLeave={() => !drag && setCursor(undefined)}
        className={`relative touch-none select-none ${ruler.courses.length > 4 ? 'max-h-[370px] overflow-y-auto pr-1' : ''}`}
      >
        <svg
          ref={drawing}
          width={width}
          height={ruler.courses.length * pitch}
          style={{ overflow: 'visible', display: 'block' }}
        >
          <defs>
            <pattern id="excluded" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
              <rect width="6" height="6" fill="var(--sand-t)" />
              <rect width="2" height="6" fill="var(--sand-line)" />
            </pattern>
          </defs>
          <Courses ruler={ruler} scales={scales} selected={selected} onEdge={onEdge} onFinding={actions.onFinding} />
        </svg>
        <svg
          width={width}
          height={ruler.courses.length * pitch}
          className="absolute inset-0 pointer-events-none will-change-transform"
          style={{ overflow: 'visible' }}
          aria-hidden
        >
          {ruler.courses.map((c, i) => (
            <g key={c.from} transform={`translate(0,${top + i * pitch})`}>
              {marked && marked.from <= c.to && marked.to >= c.from && (
                <rect
                  x={scales[i](Math.max(marked.from, c.from))}
                  y={0}
                  width={scales[i](Math.min(marked.to, c.to) + 1) - scales[i](Math.max(marked.from, c.from))}
                  height={courseHeight}
                  fill="var(--azurite)"
                  fillOpacity={0.14}
                  stroke="var(--azurite)"
                />
              )}
              {cursor !== undefined && cursor >= c.from && cursor <= c.to && (
                <line
                  x1={scales[i](cursor + 0.5)}
                  x2={scales[i](cursor + 0.5)}
                  y1={-3}
                  y2={courseHeight}
                  stroke="var(--ink)"
                  strokeOpacity={0.5}
                />
              )}
            </g>
          ))}
        </svg>
      </div>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1 min-h-[34px]">
        <output className="mono text-ink" aria-live="polite">
          {readout}
        </output>
        {selection && !drag ? (
          <span className="ml-auto flex flex-wrap gap-1.5" aria-label="What to do with the selection">
            <Action onClick={() => actions.onCreate('pool', rangeText(ruler, selection))} name="Pool" k="p" />
            {canExclude && (
              <Action onClick={() => actions.onCreate('exclusion', rangeText(ruler, selection))} name="Exclude" k="x" />
            )}
            <Action
              onClick={() => actions.onCreate('reservation', addressAt(ruler, selection.from))}
              name="Reserve"
              k="r"
            />
            <Action
              onClick={() => actions.onCreate('fixed', addressAt(ruler, selection.from))}
              name="Fixed device"
              k="f"
            />
          </span>
        ) : (
          <Legend used={ruler.used} pool={ruler.pool} />
        )}
      </div>
    </div>
  )
}

type CoursesProps = {
  ruler: RulerData
  scales: ScaleLinear<number, number>[]
  selected: string
  onEdge: (span: Span, edge: 'start' | 'end', e: React.PointerEvent) => void
  onFinding: (id: string) => void
}

/** What does not change while the hand moves. */
const Courses = memo(function Courses({ ruler, scales, selected, onEdge, onFinding }: CoursesProps) {
  return ruler.courses.map((c, i) => (
    <g key={c.from} transform={`translate(0,${top + i * pitch})`}>
      <Course course={c} x={scales[i]} selected={selected} onEdge={onEdge} onFinding={onFinding} />
    </g>
  ))
})

function Action({ name, k, onClick }: { name: string; k: string; onClick: () => void }) {
  return (
    <button className="btn !h-[28px]" onClick={onClick}>
      {name} <kbd>{k}</kbd>
    </button>
  )
}
