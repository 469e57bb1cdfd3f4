import type { Change, Schemas, View } from '../api/client'
import { Copy } from '../parts/Copy'
import { FindingCard } from '../parts/FindingCard'
import { Mark, Shape } from '../parts/Kind'
import { SmallButton } from '../parts/SmallButton'
import { Toolbar } from '../parts/Toolbar'
import { Dotted, Values } from '../parts/Values'
import { Actions } from './Actions'
import { History } from './History'
import { MeantList } from './MeantList'
import type { Asked } from './pageState'
import { Ownership } from './Ownership'
import { ArchiveSite } from './ArchiveSite'
import { Export } from './Export'

type Props = {
  view: View
  busy: boolean
  change: (change: Change) => void
  ask: (asked: Asked) => void
  onSelect: (ref: string) => void
  onClose?: () => void
}

/** What is selected, its findings with their fixes, and what a client there will be told. */
export function Inspector({ view, busy, change, ask, onSelect, onClose }: Props) {
  const i = view.part
  const kind = i.ref.slice(0, i.ref.indexOf(':'))
  const wide = kind === 'network' ? view.wide : undefined
  return (
    <aside
      aria-label="Inspector"
      id="inspector"
      data-place="inspector"
      className="bg-slab border-l border-seam px-4 py-3.5 overflow-auto relative print:border-0 print:overflow-visible"
    >
      <div className="flex items-center justify-between">
        <p className="text-[12.5px] font-[650] text-ink-2">
          <Shape kind={kind} />
          {i.kind}
        </p>
        {onClose && (
          <button className="btn !h-[26px] min-[1001px]:!hidden" onClick={onClose}>
            Close
          </button>
        )}
      </div>
      <h2 data-title tabIndex={-1} className="inspected mt-0.5 mb-2 [overflow-wrap:anywhere]">
        {i.title}
      </h2>
      <Values facts={i.facts} />
      {i.findings.map((f) => (
        <FindingCard
          key={f.id}
          finding={f}
          busy={busy}
          onFix={(other) => change({ fix: f.id, other: other || undefined })}
          onFixAll={() => ask({ kind: 'fixAll', rule: f.rule })}
          at={{ site: view.site.code, order: view.order?.id }}
        />
      ))}
      <MeantList of={i.meant} site={view.site.code} zone={view.site.timeZone} />
      {wide?.severity && (
        <button
          className="flex gap-1.5 items-baseline mt-2.5 text-[13px] text-left hover:underline"
          onClick={() => onSelect(`site:${view.site.id}`)}
        >
          <Mark severity={wide.severity} />{' '}
          {wide.findings === 1 ? 'One finding concerns' : `${wide.findings} findings concern`} the whole site
        </button>
      )}
      {i.more > 0 && <p className="text-ink-2 mt-2">and {i.more} more here; select what they are about in the list</p>}
      <Toolbar className="mt-3">
        <Actions actions={i.actions} of={i} busy={busy} change={change} ask={ask} />
      </Toolbar>
      {i.effective.length > 0 && <Effective part={i} ask={ask} />}
      {kind === 'site' && <History site={view.site.code} zone={view.site.timeZone} />}
      {kind === 'site' && <Ownership site={view.site.code} zone={view.site.timeZone} />}
      {kind === 'site' && <Export site={view.site.code} customer={view.site.customer} />}
      {kind === 'site' && <ArchiveSite site={view.site.code} name={view.site.name} />}
    </aside>
  )
}

/** The options a client is told, each with where it comes from. */
function Effective({ part, ask }: { part: Schemas['Inspection']; ask: (asked: Asked) => void }) {
  return (
    <section className="mt-4">
      <h2>Effective options of {part.for}</h2>
      <ul className="mt-1">
        {part.effective.map((t) => (
          <li key={t.code} className="grid grid-cols-[30px_1fr_auto] gap-x-1.5 py-1 border-b border-seam-2">
            <span className="mono text-ink-3">{t.code}</span>
            <div>
              <Copy text={t.value} className={t.mono ? 'mono' : ''}>
                <Dotted text={t.value} />
              </Copy>
              <div className="text-[12px] text-ink-3">
                {t.name}, {t.from}
                {t.hides && `; ${t.hides}`}
              </div>
            </div>
            {t.level && (
              <button
                className="text-[12px] text-ink-2 hover:underline self-start"
                aria-label={`Change ${t.name}`}
                onClick={() => ask({ kind: 'option', option: { code: t.code } })}
              >
                Change
              </button>
            )}
          </li>
        ))}
      </ul>
      <SmallButton className="mt-2" onClick={() => ask({ kind: 'option', option: {} })}>
        Set an option
      </SmallButton>
    </section>
  )
}
