import { useState } from 'react'
import { api, call, type View } from '../api/client'
import { useKeys } from '../frame/useKeys'
import { Alert } from '../parts/Alert'
import { FindingCard } from '../parts/FindingCard'
import { Toolbar } from '../parts/Toolbar'
import { Values } from '../parts/Values'
import { plural } from '../parts/plural'
import { Actions } from '../site/Actions'
import { NoOrder } from '../site/NoOrder'
import type { Page } from '../site/useSitePage'
import { Windows } from '../site/Windows'
import { Ask } from './Ask'
import { ResolverStatus } from './ResolverStatus'
import { Follower } from './Follower'
import { Prove } from './Prove'
import { NamesList } from './NamesList'
import { Export } from './Export'
import { Layers } from './Layers'
import { ZoneKeys } from './ZoneKeys'
import { useAsk, useNames, useNamesLook, type NameRow, type Names } from './useNames'

/** The names of a site: the layers of the resolver, in the order in which it looks, what one holds, and Ask. */
export function NamesFace({ page, view }: { page: Page; view: View }) {
  const { layer, resolver, question, set } = useNamesLook()
  const { look, go, state } = page
  const names = useNames(page.code, view.order?.id, layer, resolver).data
  const [shows, setShows] = useState<Shows>()
  const [scroller, setScroller] = useState<HTMLDivElement | null>(null)
  const asked = useAsk(
    page.code,
    question.against ? undefined : view.order?.id,
    question.who || (names?.askers[0]?.ref ?? ''),
    question,
  )
  const addName = () => {
    page.ask({ kind: 'form', form: { kind: 'record', in: names?.ref?.startsWith('zone:') ? names.ref : undefined } })
  }
  useKeys({ n: addName })
  if (!names) return null
  const writeDown = async () => {
    const told = await call(
      api.GET('/api/sites/{site}/zones/{zone}/text', {
        params: { path: { site: page.code, zone: names.chosen }, query: { format: 'zone', told: true } },
      }),
    )
    page.ask({ kind: 'paste', zone: { zone: names.chosen, name: names.title, text: told.text } })
  }
  const face = (to: string) => go({ face: to })
  const select = (r: NameRow) => {
    // Both at once: the address of the page is changed from what it is now.
    set({ name: r.whole, select: r.ref ?? '' })
    page.dispatch({ do: 'sheet', open: true })
  }
  return (
    <div
      className={
        'h-full grid grid-rows-[minmax(0,1fr)_auto] grid-cols-[238px_minmax(0,1fr)_340px] ' +
        'max-[1000px]:grid-cols-1 max-[1000px]:grid-rows-[auto_minmax(0,1fr)_auto] print:block'
      }
    >
      <Picker
        names={names}
        onLayer={(id) => set({ layer: id })}
        onFace={face}
        onAsk={() => page.dispatch({ do: 'sheet', open: true })}
      />
      <div className="max-[1000px]:hidden min-h-0 grid">
        <Layers
          view={view}
          names={names}
          lit={litBy(names, question.name ? asked.data : undefined)}
          onLayer={(s) => set({ layer: s.id, select: s.ref })}
          onResolver={(ref) => set({ resolver: ref.slice('resolver:'.length), layer: '' })}
          onFace={face}
          onLook={names.resolver ? () => setShows('looking into') : undefined}
          onAddZone={() => page.ask({ kind: 'form', form: { kind: 'zone' } })}
        />
      </div>
      <div
        ref={setScroller}
        className={
          'bg-sheet min-w-0 overflow-auto [overflow-anchor:none] px-4.5 max-[480px]:px-2.5 py-3.5 relative ' +
          'print:overflow-visible'
        }
      >
        <div className="flex items-baseline gap-3 flex-wrap">
          <h1 className="mono !text-[18px] font-bold [overflow-wrap:anywhere]">{names.title}</h1>
          <span className="ml-auto text-ink-2">{names.says}</span>
        </div>
        <Alert className="mt-2">{state.says}</Alert>
        <Toolbar className="mt-2">
          <button className="btn !h-[28px]" onClick={addName}>
            Add a name <kbd>n</kbd>
          </button>
          <button
            className="btn !h-[28px]"
            onClick={() => page.ask({ kind: 'form', form: { kind: 'service', values: { inside: 'true' } } })}
          >
            Add a service
          </button>
          <OfLayer page={page} names={names} onWriteDown={() => void writeDown()} onExport={() => setShows('export')} />
        </Toolbar>
        {shows && <Dialog shows={shows} page={page} view={view} names={names} onClose={() => setShows(undefined)} />}
        <First names={names} page={page} />
        <NamesList
          key={names.chosen}
          names={names}
          zone={view.site.timeZone}
          selected={look.select ?? ''}
          scroller={scroller}
          save={page.save}
          ordered={page.head !== undefined}
          needOrder={() => page.ask({ kind: 'order' })}
          onSelect={select}
        />
        {names.keys && <ZoneKeys key={`keys of ${names.keys.zone}`} page={page} keys={names.keys} />}
        <Changes names={names} />
      </div>
      <div
        className={
          'min-h-0 grid max-[1000px]:fixed max-[1000px]:inset-y-[48px] max-[1000px]:right-0 ' +
          `max-[1000px]:w-[min(380px,100vw)] max-[1000px]:z-30 ${state.sheet ? '' : 'max-[1000px]:hidden'}`
        }
      >
        <aside
          aria-label="Ask and selection"
          id="inspector"
          data-place="inspector"
          className="bg-slab border-l border-seam px-4 py-3.5 overflow-auto relative print:border-0"
        >
          {state.sheet && (
            <button
              className="btn !h-[26px] min-[1001px]:!hidden mb-2"
              onClick={() => page.dispatch({ do: 'sheet', open: false })}
            >
              Close
            </button>
          )}
          <Ask page={page} view={view} names={names} question={question} set={set} />
          {look.select && <Selected page={page} view={view} names={names} />}
        </aside>
      </div>
      {!page.head && !page.arriving && <NoOrder view={view} current={page.current} ask={page.ask} take={page.take} />}
      <Windows page={page} view={view} />
    </div>
  )
}

type Shows = 'looking into' | 'export'

function Dialog(props: { shows: Shows; page: Page; view: View; names: Names; onClose: () => void }) {
  const { shows, page, view, names, onClose } = props
  if (shows === 'looking into')
    return names.resolver ? (
      <ResolverStatus site={page.code} resolver={names.resolver.slice('resolver:'.length)} onClose={onClose} />
    ) : null
  return <Export site={page.code} order={view.order?.id} zone={names.chosen} title={names.title} onClose={onClose} />
}

/** What can be done with the layer that is shown. */
function OfLayer(props: { page: Page; names: Names; onWriteDown: () => void; onExport: () => void }) {
  const { page, names, onWriteDown, onExport } = props
  const outside = names.layers.find((s) => s.id === names.chosen)?.outside
  const zone = names.ref?.startsWith('zone:')
  return (
    <>
      {outside && (
        <button className="btn !h-[28px]" onClick={() => page.ask({ kind: 'form', form: { kind: 'certificate' } })}>
          Add a certificate
        </button>
      )}
      {outside && (
        <button
          className="btn !h-[28px]"
          onClick={() => page.ask({ kind: 'form', form: { kind: 'following', in: names.ref } })}
        >
          Add a dynamic name
        </button>
      )}
      {zone && (
        <button
          className="btn !h-[28px]"
          onClick={() => page.ask({ kind: 'paste', zone: { zone: names.chosen, name: names.title } })}
        >
          Paste many
        </button>
      )}
      {names.readAt && names.rows.some((r) => r.from === 'its server alone') && (
        <button className="btn !h-[28px]" onClick={onWriteDown}>
          Write down what its server has
        </button>
      )}
      {zone && (
        <button className="btn !h-[28px]" onClick={onExport}>
          Export
        </button>
      )}
      {names.ref && (
        <button
          className="btn !h-[28px]"
          onClick={() => {
            const [kind = '', id = ''] = names.ref?.split(':') ?? []
            page.ask({ kind: 'form', form: { kind, id } })
          }}
        >
          Change the {zone ? 'zone' : 'resolver'}
        </button>
      )}
    </>
  )
}

/** Which layers a question passed, and where it was answered. */
function litBy(names: Names, asked?: { steps: { layer: string; state: string; title: string }[] }) {
  const lit: Record<string, string> = {}
  for (const s of asked?.steps ?? []) {
    const zone = names.layers.find((l) => s.title === `In ${l.title}` && (s.layer === 'outside') === !!l.outside)
    const id = s.layer === 'zones' ? (zone?.id ?? 'reverse') : s.layer === 'outside' ? zone?.id : s.layer
    if (id) lit[id] = s.state === 'answered' ? 'answered' : (lit[id] ?? s.state)
  }
  return lit
}

/** The layers folded into a choice, on narrow screens. */
function Picker({
  names,
  onLayer,
  onFace,
  onAsk,
}: {
  names: Names
  onLayer: (id: string) => void
  onFace: (face: string) => void
  onAsk: () => void
}) {
  return (
    <div
      className={
        'min-[1001px]:hidden flex flex-wrap items-center gap-2 px-4 max-[480px]:px-2.5 py-2 border-b border-seam ' +
        'print:hidden'
      }
    >
      <button className="btn" onClick={() => onFace('')}>
        Addresses
      </button>
      <select
        aria-label="Layer"
        className="field !w-auto min-w-0 max-w-full"
        value={names.chosen}
        onChange={(e) => onLayer(e.target.value)}
      >
        {names.layers.map((s) => (
          <option key={s.id} value={s.id}>
            {s.outside ? `Outside: ${s.title}` : s.title}
          </option>
        ))}
      </select>
      <button className="btn ml-auto" onClick={onAsk}>
        Ask
      </button>
    </div>
  )
}

/** The first step of a site that keeps no names. */
function First({ names, page }: { names: Names; page: Page }) {
  if (!names.missing) return null
  const resolver = names.missing === 'resolver'
  return (
    <div className="border border-seam p-4 mt-3">
      <p className="font-semibold">
        {resolver ? 'Nothing here answers names yet' : 'The resolver has no zone to answer for yet'}
      </p>
      <p className="text-ink-2 mt-1">
        {resolver
          ? 'A resolver is a device’s name server. Say which device answers, who may ask, and whom it asks for ' +
            'the rest.'
          : 'In the zone of the site’s domain, devices and reservations have their names of themselves.'}
      </p>
      <button
        className="btn mt-3"
        onClick={() => page.ask({ kind: 'form', form: { kind: resolver ? 'resolver' : 'zone' } })}
      >
        {resolver ? 'Add a resolver' : 'Add a zone'}
      </button>
    </div>
  )
}

/** What the selected name is of: its facts, its findings with their fixes, and what can be done. */
function Selected({ page, view, names }: { page: Page; view: View; names: Names }) {
  const { part } = view
  const line = names.lines.find((l) => l.ref === part.ref)
  if (part.ref !== page.look.select) return null
  return (
    <section aria-label="Selected" className="mt-5 pt-3 border-t border-seam">
      <p className="text-[12.5px] font-[650] text-ink-2">{part.kind}</p>
      <h2 className="inspected mt-0.5 mb-2 [overflow-wrap:anywhere]">{part.title}</h2>
      {!line &&
        part.findings.map((f) => (
          <FindingCard
            key={f.id}
            finding={f}
            busy={page.busy}
            onFix={(other) => page.change({ fix: f.id, other: other || undefined })}
            onFixAll={() => page.ask({ kind: 'fixAll', rule: f.rule })}
          />
        ))}
      {line && (
        <Follower key={line.ref} page={page} of={line} findings={part.findings} keys={names.keys !== undefined} />
      )}
      <Values facts={part.facts} />
      {part.ref.startsWith('certificate:') && (
        <Prove site={page.code} certificate={part.ref.slice('certificate:'.length)} />
      )}
      <Toolbar className="mt-3">
        <Actions actions={part.actions} of={part} busy={page.busy} change={page.change} ask={page.ask} />
      </Toolbar>
    </section>
  )
}

/** What the draft changes in answers, for every name. */
function Changes({ names }: { names: Names }) {
  if (names.changes.length === 0) return null
  const most = 200
  return (
    <section className="mt-6" aria-label="Before and after">
      <h2>Before and after: {plural(names.changes.length, 'answer')} of this draft</h2>
      <table className="table-fixed mt-1">
        <thead>
          <tr>
            <th className="list-head">Name</th>
            <th className="list-head" style={{ width: 110 }}>
              Asked for
            </th>
            <th className="list-head">Before</th>
            <th className="list-head">After</th>
          </tr>
        </thead>
        <tbody>
          {names.changes.slice(0, most).map((c) => (
            <tr key={`${c.side}${c.name}${c.type}`}>
              <td className="list-cell mono">{c.name}</td>
              <td className="list-cell text-ink-2">
                {c.type}, {c.side}
              </td>
              <td className="list-cell mono text-ink-2">{c.was ?? 'nothing'}</td>
              <td className="list-cell mono">{c.now ?? 'nothing'}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {names.changes.length > most && (
        <p className="text-ink-2 mt-1">and {plural(names.changes.length - most, 'more answer')}</p>
      )}
    </section>
  )
}
