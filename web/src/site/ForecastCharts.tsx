import { scaleLinear } from 'd3-scale'

const width = 700
const hours = [0, 3, 6, 9, 12, 15, 18, 21, 24]

/** Addresses held through a day, on the pool's own scale: the bar at the top is the pool, as on the ruler. */
export function Day({ held, size }: { held: number[]; size: number }) {
  const height = 132
  const x = scaleLinear()
    .domain([0, 24])
    .range([34, width - 4])
  const y = scaleLinear()
    .domain([0, Math.max(size, ...held) * 1.04 || 1])
    .range([height - 18, 6])
  const line = held.map((h, i) => `${i ? 'L' : 'M'}${x(i / 4).toFixed(1)} ${y(h).toFixed(1)}`).join('')
  return (
    <svg
      viewBox={`0 0 ${width} ${height}`}
      className="w-full mt-2"
      role="img"
      aria-label={`Addresses held through a day, of ${size}`}
    >
      <path d={`${line}L${x((held.length - 1) / 4)} ${y(0)}L${x(0)} ${y(0)}Z`} fill="var(--malachite-t)" />
      <path d={line} fill="none" stroke="var(--malachite)" strokeWidth={1.8} />
      <line
        x1={x(0)}
        x2={x(24)}
        y1={y(size)}
        y2={y(size)}
        stroke="var(--cinnabar)"
        strokeWidth={1.5}
        strokeDasharray="6 3"
      />
      <text x={x(0) - 4} y={y(size) + 4} textAnchor="end" fontSize={11} className="mono fill-ink-2">
        {size}
      </text>
      <text x={x(0) - 4} y={y(0) + 4} textAnchor="end" fontSize={11} className="mono fill-ink-2">
        0
      </text>
      {hours.map((h) => (
        <g key={h}>
          <line x1={x(h)} x2={x(h)} y1={y(0)} y2={y(0) + 4} stroke="var(--ink-3)" />
          <text
            x={x(h)}
            y={height - 2}
            textAnchor={h === 24 ? 'end' : 'middle'}
            fontSize={11}
            className="mono fill-ink-2"
          >
            {String(h).padStart(2, '0')}
          </text>
        </g>
      ))}
    </svg>
  )
}

/** The pool on the ruler's own scale, with as much of it filled as is held at the fullest. */
export function Fill({
  course,
  base,
  pools,
  filled,
  says,
}: {
  course: number
  base: number
  pools: { from: number; to: number }[]
  filled: { from: number; to: number }[]
  says: string
}) {
  const last = Math.max(base + course - 1, ...pools.map((p) => p.to))
  const x = scaleLinear()
    .domain([base, last + 1])
    .range([0, width - 2])
  const bar = (p: { from: number; to: number }, fill: string) => (
    <rect
      key={`${p.from}${fill}`}
      x={x(p.from)}
      y={1}
      width={x(p.to + 1) - x(p.from)}
      height={14}
      fill={fill}
      stroke="var(--malachite)"
    />
  )
  return (
    <svg viewBox={`0 0 ${width} 18`} className="w-full mt-1" role="img" aria-label={says}>
      <rect x={0} y={1} width={width - 2} height={14} fill="none" stroke="var(--seam)" />
      {pools.map((p) => bar(p, 'var(--malachite-t)'))}
      {filled.map((p) => bar(p, 'var(--malachite)'))}
    </svg>
  )
}

/** The part of the clients that has learnt of a change, from the change on. */
export function Curve({ curve, minutes }: { curve: number[]; minutes: number }) {
  const height = 96
  const x = scaleLinear()
    .domain([0, curve.length - 1])
    .range([34, width - 4])
  const y = scaleLinear()
    .domain([0, 1])
    .range([height - 18, 6])
  const line = curve.map((c, i) => `${i ? 'L' : 'M'}${x(i).toFixed(1)} ${y(c).toFixed(1)}`).join('')
  const say = (m: number) => (m < 120 ? `${Math.round(m)} min` : `${(m / 60).toFixed(m < 600 ? 1 : 0)} h`)
  return (
    <svg
      viewBox={`0 0 ${width} ${height}`}
      className="w-full mt-2"
      role="img"
      aria-label="The part of the clients that knows the change, from the change on"
    >
      <path d={line} fill="none" stroke="var(--azurite)" strokeWidth={1.8} />
      {[0, 0.5, 1].map((p) => (
        <g key={p}>
          <line x1={x(0)} x2={x(curve.length - 1)} y1={y(p)} y2={y(p)} stroke="var(--seam-2)" />
          <text x={x(0) - 4} y={y(p) + 4} textAnchor="end" fontSize={11} className="mono fill-ink-2">
            {p * 100}%
          </text>
        </g>
      ))}
      {[0, 0.25, 0.5, 0.75, 1].map((p) => (
        <text
          key={p}
          x={x(p * (curve.length - 1))}
          y={height - 2}
          textAnchor={p === 1 ? 'end' : p ? 'middle' : 'start'}
          fontSize={11}
          className="mono fill-ink-2"
        >
          {say(p * minutes)}
        </text>
      ))}
    </svg>
  )
}
