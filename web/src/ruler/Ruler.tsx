import { memo, useCallback, useEffect, useMemo, useState } from 'react'
import { SmallButton } from '../parts/SmallButton'
import { Course, courseHeight } from './Course'
import { Legend } from './Legend'
import { Overview } from './Overview'
import { addressAt, rangeText, thingsAt, type Ruler as RulerData, type Selection, type Span } from './geometry'
import { foldedIn, laid, pitch, type Row } from './layout'
import { useHand } from './useHand'

const top = 20

/** What can be made of a selection. */
export type Creatable = 'pool' | 'exclusion' | 'reservation' | 'fixed' | 'record'

export type RulerActions = {
  onSelect: (ref: string) => void
  onFinding: (id: string) => void
  onCreate: (kind: Creatable, run: string) => void
  onResize: (span: Span, range: string) => void
  onWindow: (from: number) => void
  onSelection: (s: Selection | undefined) => void
}

type Props = { ruler: RulerData; selected: string; canExclude: boolean; actions: RulerActions }

/** The addresses of a network, drawn to scale; pointing, dragging and keys work on it. */
export function Ruler(props: Props) {
  // Where the pointer is and what is marked belong to one network.
  const { base, size } = props.ruler
  return <Drawn key={`${base} ${size}`} {...props} />
}

function Drawn({ ruler, selected, canExclude, actions }: Props) {
  const [width, setWidth] = useState(lastWidth)
  const [open, setOpen] = useState<readonly number[]>([])
  const rows = useMemo(() => laid(ruler, width, open), [ruler, width, open])
  const onEnter = useCallback((row: Row) => setOpen((was) => [...was, ...foldedIn(ruler, row)]), [ruler])
  const { box, setBox, setDrawing, cursor, marked, selection, onEdge, ...hand } = useHand({
    ruler,
    rows,
    selected,
    actions,
    onEnter,
  })
  useEffect(() => {
    const watch = new ResizeObserver(([entry]) => {
      lastWidth = Math.max(320, entry?.contentRect.width ?? 0)
      setWidth(lastWidth)
    })
    if (box) watch.observe(box)
    return () => {
      watch.disconnect()
    }
  }, [box])
  const last = rows.at(-1)
  const height = last ? last.y + last.height : 0
  return (
    <div>
      <Overview ruler={ruler} onWindow={actions.onWindow} />
      <div
        ref={setBox}
        id="ruler"
        data-place="ruler"
        role="group"
        aria-roledescription="ruler"
        aria-label="Ruler: arrows move by one address, Shift extends, Enter opens"
        tabIndex={0}
        onKeyDown={hand.key}
        onPointerDown={hand.down}
        onPointerMove={hand.move}
        onPointerUp={hand.up}
        onPointerLeave={hand.leave}
        className={
          'relative touch-none select-none ' +
          (height > 4 * pitch ? 'max-h-[370px] overflow-y-auto pr-1 print:max-h-none' : '')
        }
      >
        {/* A layer of its own: it is not painted again when the list below it scrolls. */}
        <svg
          ref={setDrawing}
          width={width}
          height={height}
          className="will-change-transform"
          style={{ overflow: 'visible', display: 'block' }}
        >
          <defs>
            <pattern id="excluded" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
              <rect width="6" height="6" fill="var(--sand-t)" />
              <rect width="2" height="6" fill="var(--sand-line)" />
            </pattern>
          </defs>
          <Courses rows={rows} selected={selected} onEdge={onEdge} onFinding={actions.onFinding} />
        </svg>
        <svg
          width={width}
          height={height}
          className="absolute inset-0 pointer-events-none will-change-transform"
          style={{ overflow: 'visible' }}
          aria-hidden
        >
          {rows.map((row) => (
            <g key={row.from} transform={`translate(0,${row.y + (row.folded ? 0 : top)})`}>
              <Marks row={row} marked={marked} cursor={cursor} />
            </g>
          ))}
        </svg>
      </div>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1 mt-1 min-h-[24px]">
        <output className="mono text-ink" aria-live="polite">
          {readout(ruler, marked, cursor)}
        </output>
        {selection ? (
          <Make ruler={ruler} selection={selection} canExclude={canExclude} onCreate={actions.onCreate} />
        ) : (
          <Legend ruler={ruler} />
        )}
      </div>
    </div>
  )
}

/** The width that was measured last: what is drawn anew begins with it. */
let lastWidth = 720

/** What is marked, or what is under the pointer, in words. */
function readout(ruler: RulerData, marked?: Selection, cursor?: number): string {
  if (marked) return `${rangeText(ruler, marked)} · ${marked.to - marked.from + 1} addresses`
  if (cursor === undefined) return 'Point at an address, or drag over some'
  const things = thingsAt(ruler, cursor).map((t) => t.says)
  return `${addressAt(ruler, cursor)} · ${things.join(', ') || 'free'}`
}

/** The part of a course that is marked, and the cursor. */
function Marks({ row: c, marked, cursor }: { row: Row; marked?: Selection; cursor?: number }) {
  const { x } = c
  const tall = c.folded ? c.height - 2 : courseHeight
  const from = marked && Math.max(marked.from, c.from)
  const to = marked && Math.min(marked.to, c.to)
  return (
    <>
      {from !== undefined && to !== undefined && from <= to && (
        <rect
          x={x(from)}
          y={0}
          width={x(to + 1) - x(from)}
          height={tall}
          fill="var(--azurite)"
          fillOpacity={0.14}
          stroke="var(--azurite)"
        />
      )}
      {cursor !== undefined && cursor >= c.from && cursor <= c.to && (
        <line
          x1={x(cursor + 0.5)}
          x2={x(cursor + 0.5)}
          y1={c.folded ? 0 : -3}
          y2={tall}
          stroke="var(--ink)"
          strokeOpacity={0.5}
        />
      )}
    </>
  )
}

type CoursesProps = {
  rows: Row[]
  selected: string
  onEdge: (span: Span, edge: 'start' | 'end', e: React.PointerEvent) => void
  onFinding: (id: string) => void
}

/** What does not change while the pointer moves. */
const Courses = memo(function Courses({ rows, selected, onEdge, onFinding }: CoursesProps) {
  return rows.map((row) => (
    <g key={row.from} transform={`translate(0,${row.y + (row.folded ? 0 : top)})`}>
      {row.folded ? (
        <Folded row={row} />
      ) : (
        <Course course={row.course} x={row.x} selected={selected} onEdge={onEdge} onFinding={onFinding} />
      )}
    </g>
  ))
})

/** Rows without anything in them, in one line. */
function Folded({ row: { course, x, to, height, last, free } }: { row: Row }) {
  return (
    <g className="cursor-pointer" data-folded>
      <rect x={0} y={1} width={x(to + 1)} height={height - 4} fill="var(--ground)" stroke="var(--seam-2)" />
      <text x={6} y={14} className="mono fill-ink-2" fontSize={11.5}>
        {`${course.first} – ${last}`}
        <tspan className="font-sans">{`, ${free.toLocaleString('en')} free`}</tspan>
      </text>
    </g>
  )
}

/** What to make of the addresses that are marked. */
function Make({
  ruler,
  selection,
  canExclude,
  onCreate,
}: {
  ruler: RulerData
  selection: Selection
  canExclude: boolean
  onCreate: RulerActions['onCreate']
}) {
  const run = rangeText(ruler, selection)
  const first = addressAt(ruler, selection.from)
  const actions: [Creatable, string, string, string][] = [
    ['pool', 'Pool', 'p', run],
    ['exclusion', 'Exclude', 'x', run],
    ['reservation', 'Reserve', 'r', first],
    ['fixed', 'Fixed device', 'f', first],
    ['record', 'Name', 'n', first],
  ]
  return (
    <span className="ml-auto flex flex-wrap gap-1.5" aria-label="What to do with the selection" role="group">
      {actions
        .filter(([kind]) => kind !== 'exclusion' || canExclude)
        .map(([kind, name, key, what]) => (
          <SmallButton
            key={kind}
            onClick={() => {
              onCreate(kind, what)
            }}
          >
            {name} <kbd>{key}</kbd>
          </SmallButton>
        ))}
    </span>
  )
}
