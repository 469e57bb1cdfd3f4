import type { Schemas } from '../api/client'

const looks = {
  same: 'text-ink-2',
  gone: 'bg-cinnabar-t text-cinnabar-ink',
  new: 'bg-malachite-t text-malachite-ink',
  skip: 'text-ink-3',
}
const signs = { same: ' ', gone: '-', new: '+', skip: '…' }

/** Two texts line by line: what went, what came, and what is beside that. */
export function FileLines({ lines, label }: { lines: Schemas['FileLine'][]; label: string }) {
  return (
    <div
      role="region"
      aria-label={label}
      tabIndex={0}
      className="mono bg-slab border border-seam px-3 py-2 mt-1.5 overflow-auto max-h-[46vh] whitespace-pre"
    >
      {lines.map((l, n) => (
        <div key={n} className={looks[l.op]}>
          <span aria-hidden="true">{signs[l.op]} </span>
          {l.op === 'gone' && <span className="sr-only">was: </span>}
          {l.op === 'new' && <span className="sr-only">is: </span>}
          {l.text.replace(/\n$/, '')}
        </div>
      ))}
    </div>
  )
}
