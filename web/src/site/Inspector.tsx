import type { Change, Schemas, View } from '../api/client'
import { Copy } from '../parts/Copy'
import { Mark, Shape } from '../parts/Kind'
import { siteWide } from '../section/Section'
import { History } from './History'
import { titles, type FormSpec } from './forms'

type Props = {
  view: View
  busy: boolean
  change: (change: Change) => void
  onForm: (spec: FormSpec) => void
  onOption: (option?: { code: number; value: string; level: string }) => void
  onFixAll: (rule: string) => void
  onSelect: (ref: string) => void
  onClose?: () => void
}

/** How many findings are written out; more would bury what a client is told. */
const shown = 8

/** What is selected, its findings with their fixes, and what a client there will be told. */
export function Inspector({ view, busy, change, onForm, onOption, onFixAll, onSelect, onClose }: Props) {
  const i = view.inspect
  if (!i) return null
  const [kind, id] = [i.ref.slice(0, i.ref.indexOf(':')), i.ref.slice(i.ref.indexOf(':') + 1)]
  const findings = view.findings.filter((f) => i.findings.includes(f.id))
  const wide = kind === 'network' ? siteWide(view) : []
  const editable = Object.keys(i.fields).length > 0
  return (
    <aside aria-label="Inspector" className="bg-slab border-l border-seam px-4 py-3.5 overflow-auto relative">
      <div className="flex items-center justify-between">
        <h2>
          <Shape kind={kind} />
          {i.kind}
        </h2>
        {onClose && (
          <button className="btn !h-[26px] min-[1001px]:!hidden" onClick={onClose}>
            Close
          </button>
        )}
      </div>
      <h1 className="mt-0.5 mb-2 [overflow-wrap:anywhere]">{i.title}</h1>
      <dl className="grid grid-cols-[84px_1fr] items-center text-[13.5px]">
        {i.facts.map((f, n) => (
          <div key={n} className="contents">
            <dt className="text-ink-3 py-0.5 self-start">{f.label}</dt>
            <dd className={f.mono ? 'mono' : ''}>
              {f.mono ? (
                <Copy text={f.value}>
                  <Dotted text={f.value} />
                </Copy>
              ) : (
                f.value
              )}
            </dd>
          </div>
        ))}
      </dl>
      {findings.slice(0, shown).map((f) => (
        <FindingCard
          key={f.id}
          finding={f}
          busy={busy}
          onFix={() => change({ fix: f.id })}
          alike={view.findings.filter((o) => o.rule === f.rule && o.fix).length}
          onFixAll={() => onFixAll(f.rule)}
        />
      ))}
      {wide.length > 0 && (
        <button
          className="flex gap-1.5 items-baseline mt-2.5 text-[13px] text-left hover:underline"
          onClick={() => onSelect(`site:${view.site.id}`)}
        >
          <Mark severity={wide[0].severity} />{' '}
          {wide.length === 1 ? 'One finding concerns' : `${wide.length} findings concern`} the whole site
        </button>
      )}
      {findings.length > shown && (
        <p className="text-ink-2 mt-2">
          and {findings.length - shown} more here; select what they are about in the list
        </p>
      )}
      <div className="flex flex-wrap gap-1.5 mt-3">
        {i.next && (
          <>
            <button
              className="btn !h-[28px]"
              onClick={() =>
                onForm({ kind: 'reservation', isNew: true, title: 'Reserve an address', values: { ...i.next!.fields } })
              }
            >
              Reserve
            </button>
            <button
              className="btn !h-[28px]"
              onClick={() =>
                onForm({ kind: 'fixed', isNew: true, title: 'Record a fixed device', values: { ...i.next!.fields } })
              }
            >
              Fixed device
            </button>
          </>
        )}
        {editable && (
          <button
            className="btn !h-[28px]"
            onClick={() =>
              onForm({
                kind: kind as FormSpec['kind'],
                id,
                in: i.in,
                isNew: false,
                title: `Change the ${titles[kind]}`,
                values: { ...i.fields, ...timers(i) },
              })
            }
          >
            Change
          </button>
        )}
        {kind === 'pool' && (
          <button
            className="btn !h-[28px]"
            disabled={busy}
            onClick={() =>
              change({ entries: [{ kind: 'pool', id, fields: { enabled: String(i.fields.enabled !== 'true') } }] })
            }
          >
            {i.fields.enabled === 'true' ? 'Switch off' : 'Switch on'}
          </button>
        )}
        {kind === 'pool' && (
          <button
            className="btn !h-[28px]"
            onClick={() =>
              onForm({
                kind: 'exclusion',
                isNew: true,
                in: i.ref,
                title: 'Exclude addresses',
                values: { range: '', reason: '', until: '' },
              })
            }
          >
            Exclude
          </button>
        )}
        {kind === 'network' && view.network?.interface && (
          <button
            className="btn !h-[28px]"
            onClick={() =>
              onForm({
                kind: 'interface',
                isNew: true,
                in: view.network!.interface!.in,
                title: `Give ${view.network!.interface!.inName} an interface`,
                values: { ...view.network!.interface!.fields },
              })
            }
          >
            Give {view.network.interface.inName} an interface
          </button>
        )}
        {editable && kind !== 'site' && (
          <button className="btn !h-[28px]" disabled={busy} onClick={() => change({ remove: i.ref, in: i.in })}>
            Remove
          </button>
        )}
      </div>
      {i.told.length > 0 && (
        <WillBeTold whom={kind === 'site' ? 'every client' : 'this client'} told={i.told} onOption={onOption} />
      )}
      {kind === 'site' && <History site={view.site.code} zone={view.site.timeZone} />}
    </aside>
  )
}

/** The lease timers that a pool sets itself, which its form shows beside its own fields. */
const timers = (i: Schemas['Inspection']): Record<string, string> => {
  if (!i.ref.startsWith('pool:'))
    return i.ref.startsWith('interface:')
      ? { method: 'dhcp', uplinkGateway: '', account: '', secret: '', mtu: '', translates: '', ...i.fields }
      : {}
  const own = (code: number) => i.told.find((t) => t.code === code && t.level === i.ref)?.value ?? ''
  return { lease: own(51), t1: own(58), t2: own(59) }
}

/** A long name may break after its dots. */
function Dotted({ text }: { text: string }) {
  return text.split('.').map((part, n) =>
    n ? (
      <span key={n}>
        .<wbr />
        {part}
      </span>
    ) : (
      part
    ),
  )
}

const tones: Record<string, string> = {
  blocks: 'border-cinnabar bg-cinnabar-t',
  warns: 'border-sand bg-sand-t',
  notes: 'border-ink-3 bg-ground',
}

export function FindingCard({
  finding: f,
  busy,
  onFix,
  alike = 0,
  onFixAll,
}: {
  finding: Schemas['Finding']
  busy: boolean
  onFix?: () => void
  alike?: number
  onFixAll?: () => void
}) {
  return (
    <section
      id={f.id}
      className={`border-l-3 ${tones[f.severity]} px-2.5 py-2 mt-2.5 text-[13px]`}
      aria-label={`Finding: ${f.title}`}
    >
      <b>{f.title}</b>
      <p className="mt-0.5">{f.says}</p>
      {onFix && f.fix && (
        <button
          className="btn !h-auto min-h-[28px] py-1 mt-1.5 !whitespace-normal text-left"
          disabled={busy}
          onClick={onFix}
        >
          {f.fix}
        </button>
      )}
      {onFixAll && alike > 1 && (
        <button className="block mt-1 hover:underline" disabled={busy} onClick={onFixAll}>
          Fix all {alike} of this kind…
        </button>
      )}
    </section>
  )
}

function WillBeTold({ whom, told, onOption }: { whom: string; told: Schemas['Told'][]; onOption: Props['onOption'] }) {
  return (
    <section className="mt-4">
      <h2>What {whom} will be told</h2>
      <ul className="mt-1">
        {told.map((t) => (
          <li key={t.code} className="grid grid-cols-[30px_1fr_auto] gap-x-1.5 py-1 border-b border-seam-2">
            <span className="mono text-ink-3">{t.code}</span>
            <div>
              <Copy
                text={t.value}
                className={/\d/.test(t.value) && !/hour|day|minute|second/.test(t.value) ? 'mono' : ''}
              />
              <div className="text-[12px] text-ink-3">
                {t.name}, {t.from}
                {t.hides && `; ${t.hides}`}
              </div>
            </div>
            {t.level && (
              <button
                className="text-[12px] text-ink-2 hover:underline self-start"
                aria-label={`Change ${t.name}`}
                onClick={() => onOption({ code: t.code, value: t.value, level: t.level })}
              >
                Change
              </button>
            )}
          </li>
        ))}
      </ul>
      <button className="btn !h-[28px] mt-2" onClick={() => onOption()}>
        Set an option
      </button>
    </section>
  )
}
