import type { ScaleLinear } from 'd3-scale'
import { memo } from 'react'
import type { Course as CourseData, Span } from './geometry'
import { looks, pinKind, shapes } from './looks'

export const courseHeight = 60
const planHeight = 24
/** Findings are marked below a course: above it are the addresses. */
const markAt = courseHeight + 10

type Props = {
  course: CourseData
  x: ScaleLinear<number, number>
  selected: string
  onEdge: (span: Span, edge: 'start' | 'end', e: React.PointerEvent) => void
  onFinding: (id: string) => void
}

/** One row of addresses with its tracks: plan, pins, names, seen. */
export const Course = memo(function Course({ course, x, selected, onEdge, onFinding }: Props) {
  const cell = x(course.from + 1) - x(course.from)
  const middle = (at: number) => x(at) + cell / 2
  const size = course.to - course.from + 1
  const tick = size > 128 ? 32 : size > 32 ? 16 : size > 8 ? 4 : 1
  const width = x(course.to + 1)
  const ticks = Array.from({ length: Math.ceil(size / tick) }, (_, i) => course.from + i * tick).slice(1)
  return (
    <g>
      <text x={0} y={-5} className="mono fill-ink-2" fontSize={11.5}>
        {course.first}
      </text>
      <text x={width} y={-5} textAnchor="end" className="mono fill-ink-2" fontSize={11.5}>
        {course.last}
      </text>
      {ticks.map((t) => (
        <g key={t}>
          <line x1={x(t)} x2={x(t)} y1={-3} y2={courseHeight} stroke="var(--seam-2)" />
          {x(t) > 108 && x(t) < width - 118 && (
            <text x={x(t)} y={-5} textAnchor="middle" className="mono fill-ink-3" fontSize={10.5}>
              {Number(course.first.split('.')[3]) + (t - course.from)}
            </text>
          )}
        </g>
      ))}
      <rect x={0} y={0} width={width} height={courseHeight} fill="none" stroke="var(--seam)" />
      {course.spans.map((s) => (
        <Plan key={`${s.kind}${s.ref}${s.from}`} span={s} x={x} selected={selected === s.ref} onEdge={onEdge} />
      ))}
      <Pins course={course} middle={middle} selected={selected} />
      <path
        d={course.names.map((n) => `M${(middle(n) - 1.7).toFixed(1)} 44h3.4v5h-3.4z`).join('')}
        fill="var(--azurite)"
      />
      <path
        d={course.seen.map((s) => `M${middle(s).toFixed(1)} 54.5h0`).join('')}
        stroke="var(--malachite)"
        strokeWidth={3.6}
        strokeLinecap="round"
        data-seen={course.seen.length}
      />
      {course.conflicts.map((c) => {
        const grave = c.severity === 'blocks'
        const at = middle((c.from + c.to) / 2)
        const colour = grave ? 'var(--cinnabar)' : 'var(--sand)'
        const pool = c.to - c.from > 3
        return (
          <g key={`${c.finding}${c.from}`}>
            {pool && <rect x={x(c.from)} y={-1.5} width={x(c.to + 1) - x(c.from)} height={3} fill={colour} />}
            <line
              x1={at}
              x2={at}
              y1={-2}
              y2={courseHeight + 5}
              stroke={colour}
              strokeWidth={1.5}
              strokeDasharray={grave ? undefined : '3 2'}
            />
            <a
              href={`#${c.finding}`}
              aria-label={c.title}
              onPointerDown={(e) => e.stopPropagation()}
              onClick={(e) => {
                e.preventDefault()
                onFinding(c.finding)
              }}
            >
              <circle cx={at} cy={markAt} r={12} fill="transparent" />
              {grave ? (
                <circle cx={at} cy={markAt} r={4.5} fill={colour} />
              ) : (
                <path d={`M${at - 5} ${markAt + 4} L${at} ${markAt - 5} L${at + 5} ${markAt + 4}Z`} fill={colour} />
              )}
              <title>{c.title}</title>
            </a>
          </g>
        )
      })}
    </g>
  )
})

const windowLook = { fill: 'var(--seam-2)', stroke: 'var(--ink-3)', text: 'var(--ink-2)' }

function Plan({
  span,
  x,
  selected,
  onEdge,
}: {
  span: Span
  x: ScaleLinear<number, number>
  selected: boolean
  onEdge: Props['onEdge']
}) {
  const left = x(span.from)
  const width = x(span.to + 1) - left
  const look = looks[span.kind] ?? windowLook
  const edge = (side: 'start' | 'end') => (
    <rect
      x={side === 'start' ? left - 4 : left + width - 4}
      y={0}
      width={8}
      height={planHeight}
      fill="transparent"
      style={{ cursor: 'ew-resize' }}
      data-edge={side}
      onPointerDown={(e) => onEdge(span, side, e)}
    />
  )
  return (
    <g role="img" aria-label={span.says}>
      <rect
        x={left}
        y={0}
        width={width}
        height={planHeight}
        fill={span.off ? 'var(--sheet)' : look.fill}
        stroke={look.stroke}
        strokeWidth={selected ? 2.5 : 1}
        strokeDasharray={span.off ? '5 3' : !span.ref ? '2 3' : undefined}
      />
      {span.kind !== 'exclusion' && width > 40 && (
        <text
          x={left + 6}
          y={16.5}
          fontSize={12}
          fontWeight={span.kind === 'pool' ? 620 : 400}
          fill={look.text}
          clipPath={`inset(0 0 0 0)`}
        >
          {fit(
            span.kind === 'pool'
              ? `${span.label}${span.off ? ', off' : ''}`
              : span.kind === 'infrastructure'
                ? 'infra'
                : span.kind,
            width,
          )}
        </text>
      )}
      {span.ref && span.starts && edge('start')}
      {span.ref && span.ends && edge('end')}
    </g>
  )
}

const fit = (text: string, width: number) =>
  text.length * 6.4 > width - 8 ? `${text.slice(0, Math.max(1, Math.floor((width - 14) / 6.4)))}…` : text

/** The pins of a kind in words: some by name, the others counted. */
function pinNames(pins: CourseData['pins']): string {
  const some = pins.slice(0, 12).map((p) => p.what)
  return some.join(', ') + (pins.length > some.length ? `, and ${pins.length - some.length} more` : '')
}

/** The pins of a course: one path a kind, so that thousands of them draw as quickly as a few. */
function Pins({ course, middle, selected }: { course: CourseData; middle: (at: number) => number; selected: string }) {
  const chosen = course.pins.find((p) => p.ref === selected)
  return (
    <>
      {Object.entries(shapes).map(([kind, shape]) => {
        const pins = course.pins.filter((p) => pinKind(p.kind) === kind)
        const d = pins.map((p) => `M${(middle(p.at) - shape.left).toFixed(1)} ${shape.top}${shape.outline}`).join('')
        return (
          d && (
            <path
              key={kind}
              d={d}
              fill={shape.fill}
              stroke="var(--sheet)"
              strokeWidth={0.75}
              data-pins={kind}
              role="img"
              aria-label={pinNames(pins)}
            />
          )
        )
      })}
      {chosen && <circle cx={middle(chosen.at)} cy={34} r={9} fill="none" stroke="var(--ink)" strokeWidth={1.5} />}
    </>
  )
}
