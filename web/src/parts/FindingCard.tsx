import type { ReactNode } from 'react'
import { Link, useParams } from 'react-router'
import type { Finding, Schemas } from '../api/client'
import { MeantSo } from './MeantSo'

const tones: Record<Finding['severity'], string> = {
  blocks: 'border-cinnabar bg-cinnabar-t',
  warns: 'border-sand bg-sand-t',
  notes: 'border-ink-3 bg-ground',
}

/** A finding with its fix, and the way to fix all of its kind. */
export function FindingCard({
  finding: f,
  busy,
  onFix,
  onRemedy,
  onFixAll,
  at,
  children,
}: {
  finding: Finding
  busy: boolean
  onFix?: (other: boolean) => void
  onRemedy?: (remedy: Schemas['Remedy']) => void
  onFixAll?: () => void
  /** Where it can be said that it is meant so: the site, and the order whose draft has it. */
  at?: { site: string; order?: number }
  children?: ReactNode
}) {
  const { code } = useParams()
  return (
    <section
      id={f.id}
      className={`border-l-3 ${tones[f.severity]} px-2.5 py-2 mt-2.5 text-[13px]`}
      aria-label={`Finding: ${f.title}`}
    >
      <b>{f.title}</b>
      <p className="mt-0.5">{f.says}</p>
      {code && f.device && (
        <Link className="btn !h-auto min-h-[28px] py-1 mt-1.5" to={`/sites/${code}/history?at=device:${f.device}`}>
          Look at what it holds
        </Link>
      )}
      {onRemedy && f.remedy && (
        <button
          className="btn !h-auto min-h-[28px] py-1 mt-1.5 !whitespace-normal text-left"
          disabled={busy}
          onClick={() => f.remedy && onRemedy(f.remedy)}
        >
          {f.remedy.title}
        </button>
      )}
      {onFix && (
        <div className="flex flex-wrap gap-1.5">
          {[f.fix, f.other].map(
            (fix, n) =>
              fix && (
                <button
                  key={fix}
                  className="btn !h-auto min-h-[28px] py-1 mt-1.5 !whitespace-normal text-left"
                  disabled={busy}
                  onClick={() => {
                    onFix(n === 1)
                  }}
                >
                  {fix}
                </button>
              ),
          )}
        </div>
      )}
      {onFixAll && f.alike > 1 && (
        <button className="block mt-1 hover:underline" disabled={busy} onClick={onFixAll}>
          Fix all {f.alike} of this kind…
        </button>
      )}
      {at && f.severity !== 'blocks' && <MeantSo finding={f} at={at} />}
      {children}
    </section>
  )
}
