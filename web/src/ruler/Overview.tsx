import type { Ruler } from './geometry'

/** A network larger than what is drawn: columns of one course or several, with a window on it. */
export function Overview({ ruler, onWindow }: { ruler: Ruler; onWindow: (from: number) => void }) {
  const { bins, bin } = ruler
  if (!bins || !bin) return null
  const courses = ruler.size / ruler.course
  return (
    <label className="block mb-2">
      <span className="text-[12px] text-ink-2">
        {courses.toLocaleString('en')} rows of 256; the frame shows which are drawn below
      </span>
      <svg
        viewBox={`0 0 ${bins.length} 30`}
        preserveAspectRatio="none"
        className="w-full h-[30px] block border border-seam"
      >
        {bins.map((b, i) => (
          <g key={i}>
            <rect x={i} width={1} y={30 - (30 * b.pool) / bin} height={(30 * b.pool) / bin} fill="var(--malachite-t)" />
            {b.pins > 0 && <rect x={i} width={1} y={24} height={6} fill="var(--amethyst)" />}
          </g>
        ))}
        <rect
          x={ruler.from / bin}
          y={0.5}
          width={(ruler.courses.length * ruler.course) / bin}
          height={29}
          fill="var(--lichen)"
          fillOpacity={0.25}
          stroke="var(--ink)"
          vectorEffect="non-scaling-stroke"
        />
      </svg>
      <input
        type="range"
        className="w-full"
        min={0}
        max={courses - ruler.courses.length}
        value={ruler.from / ruler.course}
        onChange={(e) => onWindow(Number(e.target.value) * ruler.course)}
        aria-label="Which rows are drawn"
      />
    </label>
  )
}
