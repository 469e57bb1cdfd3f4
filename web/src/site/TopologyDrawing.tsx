import { useQuery } from '@tanstack/react-query'
import { api, call, type Schemas } from '../api/client'

const box = { width: 132, height: 40, gap: 110 }
const pitch = 104

/** Which port of what reaches the network through which VLAN; the path is drawn in ink, and breaks where it breaks. */
export function TopologyDrawing({
  site,
  order,
  network,
  onSelect,
}: {
  site: string
  order?: number
  network?: string
  onSelect: (ref: string) => void
}) {
  const { data: d } = useQuery({
    queryKey: ['view', site, 'links', order, network],
    queryFn: () =>
      call(api.GET('/api/sites/{site}/topology', { params: { path: { site }, query: { order, network } } })),
  })
  if (!d || d.devices.length === 0) return null
  const width = Math.max(d.places * (box.width + box.gap), 420)
  const at = (b: Schemas['Box']) => {
    const inRow = d.devices.filter((o) => o.row === b.row).length
    return { x: ((b.place + 0.5) * width) / inRow - box.width / 2, y: 6 + b.row * pitch }
  }
  const byId = new Map(d.devices.map((b) => [b.id, b]))
  const plugs = (id: string) => d.plugs.filter((p) => p.device === id)
  // Cables leave a box side by side, in the order of the boxes they lead to.
  const leave = (c: Schemas['Joint'], of: Schemas['Box']) => {
    const below = d.cables
      .flatMap((cable) => {
        const other = byId.get(cable.from === of.id ? cable.to : cable.from)
        return other && (cable.from === of.id || cable.to === of.id) && other.row >= of.row ? [{ cable, other }] : []
      })
      .sort((a, b) => at(a.other).x - at(b.other).x)
    const i = below.findIndex((b) => b.cable === c)
    return i < 0 ? box.width / 2 : (box.width * (i + 1)) / (below.length + 1)
  }
  const joined = d.cables.flatMap((cable) => {
    const [from, to] = [byId.get(cable.from), byId.get(cable.to)]
    return from && to ? [{ cable, from, to }] : []
  })
  return (
    <figure className="mt-2">
      <div className="overflow-x-auto relative" tabIndex={0} aria-label="Drawing of the links">
        <svg
          width={width + 40}
          height={(d.rows - 1) * pitch + box.height + 14}
          role="img"
          aria-label={d.says || 'The links of the site'}
        >
          {joined.map(({ cable, from, to }, i) => (
            <Cable
              key={i}
              cable={cable}
              from={at(from)}
              to={at(to)}
              leaves={leave(cable, at(from).y <= at(to).y ? from : to)}
            />
          ))}
          {d.devices.map((b) => {
            const { x, y } = at(b)
            const open = plugs(b.id)
            return (
              <g
                key={b.id}
                transform={`translate(${x},${y})`}
                onClick={() => onSelect(`device:${b.id}`)}
                className="cursor-pointer"
              >
                <rect
                  width={box.width}
                  height={box.height}
                  fill={b.lit ? 'var(--slab)' : 'var(--sheet)'}
                  stroke={b.lit ? 'var(--ink)' : 'var(--field-line)'}
                  strokeWidth={b.lit ? 1.8 : 1}
                />
                <text x={9} y={17} className="mono fill-ink" fontSize={12.5} fontWeight={650}>
                  {b.name}
                </text>
                <text x={9} y={32} className="fill-ink-2" fontSize={11.5}>
                  {b.home ? `on ${b.home}` : b.kind}
                </text>
                {open.length > 0 && (
                  <g>
                    <path d={`M${box.width} ${box.height / 2} h8`} stroke="var(--ink)" strokeWidth={1.6} />
                    <rect x={box.width + 8} y={box.height / 2 - 4} width={8} height={8} fill="var(--malachite)" />
                    <text x={box.width + 21} y={box.height / 2 + 4} className="mono fill-ink-2" fontSize={11}>
                      {open.map((p) => p.port).join(', ')}
                    </text>
                    <title>A client plugged in here is on the network</title>
                  </g>
                )}
              </g>
            )
          })}
        </svg>
      </div>
      {d.says && (
        <figcaption className={d.breaks.length ? 'text-cinnabar-ink font-semibold' : 'text-ink-2'}>
          {d.breaks.length > 0 && '✗ '}
          {d.says}
        </figcaption>
      )}
    </figure>
  )
}

type Point = { x: number; y: number }

/** A cable with its ports at the ends and what it carries in the middle. */
function Cable({ cable: c, from, to, leaves }: { cable: Schemas['Joint']; from: Point; to: Point; leaves: number }) {
  const [top, low, topPort, lowPort] =
    from.y <= to.y ? [from, to, c.fromPort, c.toPort] : [to, from, c.toPort, c.fromPort]
  const a = { x: top.x + leaves, y: top.y + box.height }
  const b = { x: low.x + box.width / 2, y: low.y }
  const half = { x: (a.x + b.x) / 2, y: (a.y + b.y) / 2 }
  const colour = c.broken ? 'var(--cinnabar)' : c.lit ? 'var(--ink)' : 'var(--field-line)'
  const level = top.y === low.y
  const path = level ? `M${a.x} ${a.y} v18 H${b.x} v-18` : `M${a.x} ${a.y} L${b.x} ${b.y}`
  return (
    <g>
      <path
        d={path}
        fill="none"
        stroke={colour}
        strokeWidth={c.lit || c.broken ? 2.4 : 1.4}
        strokeDasharray={c.broken ? '5 4' : undefined}
      />
      {c.broken && (
        <path d={`M${half.x - 6} ${half.y - 6} l12 12 m0 -12 l-12 12`} stroke="var(--cinnabar)" strokeWidth={2.4} />
      )}
      <text
        x={a.x + (b.x < a.x ? -6 : 6)}
        y={a.y + 13}
        textAnchor={b.x < a.x ? 'end' : 'start'}
        className="mono fill-ink-2"
        fontSize={11}
      >
        {topPort}
      </text>
      {!level && (
        <text x={b.x + 6} y={b.y - 6} className="mono fill-ink-2" fontSize={11}>
          {lowPort}
        </text>
      )}
      <text
        x={half.x + (b.x < a.x ? -12 : 12)}
        y={half.y + (level ? 22 : 4)}
        textAnchor={b.x < a.x ? 'end' : 'start'}
        className="fill-ink-2"
        fontSize={11}
      >
        {c.carries}
      </text>
    </g>
  )
}
