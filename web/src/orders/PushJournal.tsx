import type { Schemas } from '../api/client'
import { Marked } from '../parts/Marked'
import { When } from '../parts/When'

const titles: Record<string, string> = { queued: 'Push is queued', running: 'Pushing', landed: 'Pushed, verified and landed', failed: 'The push failed' }
const marks: Record<string, [string, string]> = { running: ['▸', 'text-ink'], done: ['✓', 'text-malachite-ink'], failed: ['✗', 'text-cinnabar-ink'] }

/** What a push has done so far, line by line, as it happens. */
export function PushJournal({ push }: { push: Schemas['PushView'] }) {
  return (
    <section aria-label="Push" className="mb-6 max-w-[720px]">
      <div className="flex items-baseline gap-3">
        <div role="status"><h1>{titles[push.state]}</h1></div>
        <span className="text-ink-2">by {push.by}, <When at={push.at} /></span>
      </div>
      {push.problem && (
        <div role="alert" className="border-l-3 border-cinnabar bg-cinnabar-t text-cinnabar-ink px-3 py-2 mt-2">
          <Marked text={push.problem} />
          <div className="mt-1">The draft is open again. Whatever had been changed was taken back, or returns by itself.</div>
        </div>
      )}
      <ol className="mt-2 bg-sheet border border-seam">
        {push.journal.map((j, i) => {
          const [glyph, colour] = marks[j.state]
          return (
            <li key={i} className="grid grid-cols-[24px_72px_1fr] px-3 py-1 border-b border-seam-2 last:border-b-0">
              <span className={`${colour} font-bold`} title={j.state}>{glyph}</span>
              <span className="mono text-ink-2">{j.device}</span>
              <span><span className="sr-only">{j.state}: </span><Marked text={j.says} /></span>
            </li>
          )
        })}
        {push.journal.length === 0 && <li className="px-3 py-1 text-ink-2">Waiting for its turn</li>}
      </ol>
    </section>
  )
}
