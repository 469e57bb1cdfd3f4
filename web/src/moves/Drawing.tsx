import { useState, type PointerEvent } from 'react'
import { plural } from '../parts/plural'
import type { Plan } from './useMove'

const width = 760
const left = 70
const top = 30
const tall = 40
const lower = 168
const height = 236

type Thread = Plan['threads'][number]

/** A network before and after: two rulers with a thread from each old address to its new one. */
export function Drawing({
  plan,
  network,
  move,
}: {
  plan: Plan
  network: Plan['networks'][number]
  /** Gives an old address a new offset; a drawing without it is only looked at. */
  move?: (from: string, offset: number) => void
}) {
  const [hand, setHand] = useState<{ from: string; at: number }>()
  const threads = plan.threads.filter(
    (t) => t.target === network.id && t.network === (network.was ? network.id : network.into),
  )
  const bands = plan.bands.filter((b) => b.target === network.id)
  const was = network.was ? network.wasEnds : plan.networks.find((n) => n.id === network.into)?.wasEnds
  const will = network.willEnds
  if (!was || will.size === 0)
    return <p className="text-ink-2 mt-2">{network.name} becomes part of another network, and is drawn there.</p>
  const offsetAt = (e: PointerEvent<SVGSVGElement>) => {
    const box = e.currentTarget.getBoundingClientRect()
    const at = ((e.clientX - box.left) / box.width) * (left + width + 10)
    return Math.max(1, Math.min(will.size - 2, Math.floor(((at - left) / width) * will.size)))
  }
  const goes = (t: Thread) => (hand?.from === t.from ? hand.at : t.goes)
  const title =
    `${network.name}: ${threads.length} addresses of ${network.was || 'another network'} and where they go in ` +
    network.will
  return (
    <svg
      viewBox={`0 0 ${left + width + 10} ${height}`}
      className="w-full h-auto mt-2 touch-none"
      role="img"
      aria-label={title}
      onPointerMove={(e) => {
        if (hand) setHand({ ...hand, at: offsetAt(e) })
      }}
      onPointerUp={() => {
        if (hand) move?.(hand.from, hand.at)
        setHand(undefined)
      }}
    >
      <g fontSize="12" fill="var(--ink-2)">
        <text x="0" y={top - 10}>
          was
        </text>
        <text x="0" y={lower + tall + 18}>
          will be
        </text>
      </g>
      <g fontSize="13" className="mono" fill="var(--ink)">
        <text x={left} y={top - 10}>
          {was.first}
        </text>
        <text x={left + width} y={top - 10} textAnchor="end">
          {was.last}
        </text>
        <text x={left} y={lower + tall + 18}>
          {will.first}
        </text>
        <text x={left + width} y={lower + tall + 18} textAnchor="end">
          {will.last}
        </text>
      </g>
      {[top, lower].map((y) => (
        <rect key={y} x={left} y={y} width={width} height={tall} fill="var(--sheet)" stroke="var(--seam)" />
      ))}
      {bands.map((b) => (
        <g key={b.pool}>
          <Bars spans={b.at} size={was.size} y={top} name={b.name} />
          <Bars spans={b.goes} size={will.size} y={lower + tall - 18} name={b.name} odd={!!b.odd} />
          <Followers from={b.at[0]} fromSize={was.size} to={b.goes[0]} toSize={will.size} />
        </g>
      ))}
      {threads.map((t) => (
        <g key={t.from}>
          <title>{`${t.what}: ${t.from} to ${t.to}${t.odd ? `, ${t.odd}` : ''}`}</title>
          <path
            d={curve(x(t.at, was.size), top + tall, x(goes(t), will.size), lower)}
            fill="none"
            stroke={t.odd ? 'var(--cinnabar)' : t.typed ? 'var(--ink)' : 'var(--ink-3)'}
            strokeWidth={t.odd ? 1.6 : 1}
          />
          <Pin kind={t.kind} x={x(t.at, was.size)} y={top + tall - 8} />
          <g
            className={move ? 'cursor-ew-resize' : ''}
            onPointerDown={(e) => {
              if (!move) return
              e.currentTarget.ownerSVGElement?.setPointerCapture(e.pointerId)
              setHand({ from: t.from, at: t.goes })
            }}
          >
            <circle cx={x(goes(t), will.size)} cy={lower + 8} r="9" fill="transparent" />
            <Pin kind={t.kind} x={x(goes(t), will.size)} y={lower + 8} />
          </g>
          {hand?.from === t.from && (
            <text
              x={x(hand.at, will.size)}
              y={lower - 6}
              textAnchor="middle"
              fontSize="12"
              className="mono"
              fill="var(--ink)"
            >
              +{hand.at}
            </text>
          )}
        </g>
      ))}
    </svg>
  )
}

const x = (offset: number, size: number) => left + ((offset + 0.5) / size) * width

type Span = { from: number; to: number }

/** Clients of a pool go where it goes. */
function Followers({ from, fromSize, to, toSize }: { from?: Span; fromSize: number; to?: Span; toSize: number }) {
  if (!from || !to) return null
  const at = (s: Span, part: number, size: number) => x(s.from + (s.to - s.from) * part, size)
  return [0.15, 0.38, 0.62, 0.85].map((part) => (
    <path
      key={part}
      d={curve(at(from, part, fromSize), top + tall, at(to, part, toSize), lower + tall - 18)}
      fill="none"
      stroke="var(--malachite)"
      strokeDasharray="3 3"
    />
  ))
}

/** A thread leaves upright and arrives upright. */
const curve = (x1: number, y1: number, x2: number, y2: number) =>
  `M${x1} ${y1} C${x1} ${(y1 + y2) / 2} ${x2} ${(y1 + y2) / 2} ${x2} ${y2}`

function Bars({ spans, size, y, name, odd }: { spans: Span[]; size: number; y: number; name: string; odd?: boolean }) {
  return spans.map(({ from, to }) => {
    const x1 = left + (from / size) * width
    const wide = Math.max(((to - from + 1) / size) * width, 2)
    return (
      <g key={from}>
        <rect
          x={x1}
          y={y}
          width={wide}
          height="18"
          fill="var(--malachite-t)"
          stroke={odd ? 'var(--cinnabar)' : 'var(--malachite)'}
        />
        {wide > 60 && (
          <text x={x1 + 6} y={y + 13} fontSize="11.5" fontWeight="650" fill="var(--malachite-ink)">
            {name.slice(0, Math.floor(wide / 7))}
          </text>
        )}
      </g>
    )
  })
}

/** The shapes of the ruler's pins. */
function Pin({ kind, x, y }: { kind: string; x: number; y: number }) {
  switch (kind) {
    case 'reservation':
      return <path d={`M${x} ${y - 5} L${x + 5} ${y + 4} L${x - 5} ${y + 4} Z`} fill="var(--amethyst)" />
    case 'fixed':
      return <rect x={x - 4} y={y - 4} width="8" height="8" fill="var(--ink)" />
    case 'mentioned':
      return <circle cx={x} cy={y} r="3.5" fill="none" stroke="var(--ink-2)" strokeWidth="1.5" />
    default:
      return <path d={`M${x} ${y - 5.5} L${x + 5.5} ${y} L${x} ${y + 5.5} L${x - 5.5} ${y} Z`} fill="var(--ink)" />
  }
}

export function DrawingLegend({ plan }: { plan: Plan }) {
  const odd = plan.threads.filter((t) => t.odd).length
  const line = (stroke: string, dash?: string) => (
    <svg aria-hidden width="18" height="8" className="inline mr-1">
      <path d="M0 4 H18" stroke={stroke} strokeWidth="1.6" strokeDasharray={dash} />
    </svg>
  )
  return (
    <p className="text-[12.5px] text-ink-2 flex flex-wrap gap-x-5">
      <span>{line('var(--ink-3)')}by the rule</span>
      {odd > 0 && (
        <span className="text-cinnabar-ink">
          {line('var(--cinnabar)')}not at its place there: {odd}
        </span>
      )}
      {plan.bands.length > 0 && <span>{line('var(--malachite)', '3 3')}clients of the pool follow at renewal</span>}
      <span className="ml-auto">
        {plural(plan.threads.length, 'address', 'addresses')}, {plural(plan.networks.length, 'network')}
      </span>
    </p>
  )
}
