import { useCallback, useEffect, useMemo, useRef, useState } from 'react'
import { useParams } from 'react-router'
import { Problem, type Change, type Schemas } from '../api/client'
import { useCurrentOrder } from '../frame/currentOrder'
import { useKeys } from '../frame/useKeys'
import { OpenOrder } from '../orders/OpenOrder'
import { Empty } from '../parts/Empty'
import { Ruler } from '../ruler/Ruler'
import { rangeText, type Selection, type Span } from '../ruler/geometry'
import { Section } from '../section/Section'
import { Inspector } from './Inspector'
import { OptionForm } from './OptionForm'
import { OptionsTab } from './OptionsTab'
import { OwnersList } from './OwnersList'
import { PartForm } from './PartForm'
import { SeenTab } from './SeenTab'
import { TryTab } from './TryTab'
import { DevicesTab } from './DevicesTab'
import { ForecastTab } from './ForecastTab'
import { FixAll } from './FixAll'
import { PasteForm } from './PasteForm'
import { NetworkHead } from './NetworkHead'
import type { FormSpec } from './forms'
import { rememberSite } from './lastSite'
import { useEdit, useLook, useView } from './useSite'

const tabs = [
  ['addresses', 'Addresses'],
  ['options', 'Options'],
  ['seen', 'Seen'],
  ['try', 'Try a client'],
  ['forecast', 'Forecast'],
  ['devices', 'Devices'],
] as const

/** One site: the Section, the ruler of a network, its list, and the inspector. */
export function SitePage() {
  const { code = '' } = useParams()
  const { id: currentId, take, head: current } = useCurrentOrder()
  const { look, go, tab, finding } = useLook(code)
  const query = useView(code, look)
  const view = query.data
  const edit = useEdit(code, look, go)
  const [form, setForm] = useState<FormSpec>()
  const [option, setOption] = useState<{ code?: number; value?: string; level?: string }>()
  const [pasting, setPasting] = useState(false)
  const [fixing, setFixing] = useState('')
  const [pending, setPending] = useState<() => void>()
  const selection = useRef<Selection>(undefined)
  const [sheet, setSheet] = useState(false)
  const [says, setSays] = useState('')
  const [scroller, setScroller] = useState<HTMLDivElement | null>(null)
  useEffect(() => rememberSite(code), [code])

  // A finding in the address selects what it is about.
  const target = view?.findings.find((f) => f.id === finding)
  useEffect(() => {
    const about = target && (target.network ? target.parts[0] : `site:${view!.site.id}`)
    if (target && about && look.select !== about) go({ network: target.network, select: about })
  }, [target, view, look.select, go])

  const head = view?.order
  /** Does something that needs an open work order, opening one first. */
  const within = useCallback((action: () => void) => (head ? action() : setPending(() => action)), [head])
  // What waits for a work order is done as soon as its draft is on the page.
  useEffect(() => {
    if (!head || !pending) return
    setPending(undefined)
    pending()
  }, [head, pending])
  const arriving = currentId !== undefined && (!current || (current.site === code && current.state === 'open'))
  const save = useCallback(
    async (change: Change, version?: number) => {
      if (!head) throw new Problem(409, 'Open a work order first.')
      setSays('')
      return edit.mutateAsync({ head: { ...head, version: version ?? head.version }, change })
    },
    [head, edit],
  )
  // What waits for a work order is saved to the one that was opened for it.
  const saveNow = useRef(save)
  saveNow.current = save
  const change = useCallback(
    (c: Change) => within(() => void saveNow.current(c).catch((e: unknown) => setSays((e as Problem).message))),
    [within],
  )
  const openForm = useCallback((spec: FormSpec) => within(() => setForm(spec)), [within])
  const network = view?.network

  const create = useCallback(
    (kind: 'pool' | 'exclusion' | 'reservation' | 'fixed', range: string) => {
      if (!network) return
      const base = { network: network.id }
      if (kind === 'pool') {
        openForm({
          kind,
          isNew: true,
          title: 'Add a pool',
          values: {
            ...base,
            name: network.name,
            ranges: range,
            enabled: 'true',
            server: serverOf(view),
            lease: '',
            t1: '',
            t2: '',
            forClass: '',
            forClient: '',
            note: '',
          },
        })
        return
      }
      if (kind === 'exclusion') {
        openForm({
          kind,
          isNew: true,
          in: `pool:${network.pools[0]?.id}`,
          title: 'Exclude addresses',
          values: { range, reason: '', until: '' },
        })
        return
      }
      const address = range || network.nextFree
      if (kind === 'reservation') {
        openForm({
          kind,
          isNew: true,
          title: 'Reserve an address',
          values: { ...base, address, mac: '', name: '', clientId: '' },
        })
        return
      }
      openForm({
        kind,
        isNew: true,
        title: 'Record a fixed device',
        values: { ...base, address, name: '', mac: '', note: '' },
      })
    },
    [network, openForm, view],
  )
  const actions = useMemo(
    () => ({
      onSelect: (ref: string) => {
        go({ select: ref })
        setSheet(true)
      },
      onFinding: (id: string) => {
        go({ finding: id })
        setSheet(true)
      },
      onCreate: create,
      onResize: (span: Span, range: string) => {
        const id = span.ref!.slice(span.ref!.indexOf(':') + 1)
        if (span.kind === 'exclusion') {
          change({ entries: [{ kind: 'exclusion', id, in: span.in, fields: { range } }] })
          return
        }
        const ranges = network!.pools.find((p) => p.id === id)!.ranges.split(', ')
        ranges[span.range] = range
        change({ entries: [{ kind: 'pool', id, fields: { ranges: ranges.join(', ') } }] })
      },
      onWindow: (from: number) => go({ from }),
      onSelection: (s?: Selection) => void (selection.current = s),
    }),
    [go, create, change, network],
  )
  const step = (by: number) => {
    const ids = view?.layers.filter((l) => l.kind === 'network').map((l) => l.id!) ?? []
    const next = ids[ids.indexOf(network?.id ?? '') + by]
    if (next) go({ network: next })
  }
  const chosen = () => (selection.current && network ? rangeText(network.ruler, selection.current) : '')
  const first = () => chosen().split(' - ')[0]
  useKeys({
    '[': () => step(-1),
    ']': () => step(1),
    p: () => create('pool', chosen()),
    x: () => network?.pools.length && create('exclusion', chosen()),
    r: () => create('reservation', first()),
    f: () => create('fixed', first()),
    t: () => go({ tab: 'try' }),
  })

  if (query.error && !view)
    return <Empty title="The site cannot be shown" says={query.error.message} to="/rounds" first="Go to Rounds" />
  if (!view || view.site.code !== code) return null
  const addNetwork = (prefix = '') =>
    openForm({
      kind: 'network',
      isNew: true,
      title: 'Add a network',
      values: { name: '', prefix: prefix.includes(' - ') ? '' : prefix, vlan: '', gateway: '', purpose: '' },
    })
  return (
    <div className="h-full grid grid-rows-[minmax(0,1fr)_auto] grid-cols-[238px_minmax(0,1fr)_280px] max-[1000px]:grid-cols-1 max-[1000px]:grid-rows-[auto_minmax(0,1fr)_auto]">
      <NetworkPicker
        view={view}
        onSite={() => actions.onSelect(`site:${view.site.id}`)}
        onNetwork={(id) => go({ network: id })}
        onAdd={() => addNetwork()}
      />
      <div className="max-[1000px]:hidden min-h-0 grid">
        <Section
          view={view}
          selected={look.select === `site:${view.site.id}`}
          onSite={() => actions.onSelect(`site:${view.site.id}`)}
          onNetwork={(id) => go({ network: id })}
          onFree={addNetwork}
          onAdd={() => addNetwork()}
        />
      </div>
      <div ref={setScroller} className="bg-sheet min-w-0 overflow-auto px-4.5 py-3.5 relative">
        {network ? (
          <>
            <NetworkHead network={network} />
            {says && (
              <div role="alert" className="border-l-3 border-cinnabar bg-cinnabar-t text-cinnabar-ink px-3 py-2 mt-2">
                {says}
              </div>
            )}
            <div className="mt-2.5">
              <Ruler
                ruler={network.ruler}
                selected={look.select ?? ''}
                canExclude={network.pools.length > 0}
                actions={actions}
              />
            </div>
            <div role="tablist" aria-label="Of this network" className="flex gap-0.5 border-b border-seam mt-1.5">
              {tabs.map(([id, name]) => (
                <button
                  key={id}
                  id={`tab-${id}`}
                  role="tab"
                  aria-selected={tab === id}
                  aria-controls="tab-panel"
                  onClick={() => go({ tab: id })}
                  className={`px-3 py-1.5 ${tab === id ? 'font-[640] shadow-[inset_0_-2px_var(--ink)]' : 'text-ink-2 hover:text-ink'}`}
                >
                  {name}
                </button>
              ))}
            </div>
            <div role="tabpanel" id="tab-panel" aria-labelledby={`tab-${tab}`}>
              {tab === 'addresses' && (
                <OwnersList
                  onPaste={() => within(() => setPasting(true))}
                  key={network.id}
                  rows={network.rows}
                  selected={look.select ?? ''}
                  zone={view.site.timeZone}
                  scroller={scroller}
                  onSelect={actions.onSelect}
                />
              )}
              {tab === 'options' && (
                <OptionsTab
                  key={network.id}
                  view={view}
                  site={code}
                  onSelect={actions.onSelect}
                  onForm={openForm}
                  onOption={(o) => within(() => setOption(o ?? {}))}
                />
              )}
              {tab === 'seen' && <SeenTab view={view} site={code} onForm={openForm} change={change} />}
              {tab === 'try' && <TryTab key={`${network.id} ${head?.id}`} view={view} site={code} />}
              {tab === 'forecast' && <ForecastTab key={network.id} view={view} site={code} />}
              {tab === 'devices' && (
                <DevicesTab
                  view={view}
                  site={code}
                  selected={look.select ?? ''}
                  onSelect={actions.onSelect}
                  onForm={openForm}
                />
              )}
            </div>
          </>
        ) : (
          <Empty
            title="This site has no network yet"
            says="Add the first one with the Section's button; Lithos proposes a prefix from the site's block."
          />
        )}
      </div>
      <div
        className={`min-h-0 grid max-[1000px]:fixed max-[1000px]:inset-y-[48px] max-[1000px]:right-0 max-[1000px]:w-[320px] max-[1000px]:z-30 ${sheet ? '' : 'max-[1000px]:hidden'}`}
      >
        <Inspector
          view={view}
          busy={edit.isPending}
          change={change}
          onForm={openForm}
          onFixAll={(rule) => within(() => setFixing(rule))}
          onOption={(o) => within(() => setOption(o ?? {}))}
          onSelect={actions.onSelect}
          onClose={sheet ? () => setSheet(false) : undefined}
        />
      </div>
      {!head && !arriving && <NoOrder site={view.site} current={current} onOpen={() => setPending(() => () => {})} />}
      {form && <PartForm spec={form} view={view} site={code} save={save} onClose={() => setForm(undefined)} />}
      {pasting && head && network && <PasteForm view={view} save={save} onClose={() => setPasting(false)} />}
      {fixing && head && <FixAll rule={fixing} order={head.id} change={change} onClose={() => setFixing('')} />}
      {option && (
        <OptionForm
          own={view.ownOptions}
          levels={levelsOf(view)}
          {...option}
          version={head?.version}
          save={save}
          onClose={() => setOption(undefined)}
        />
      )}
      <OpenOrder
        open={pending !== undefined && !head && !arriving}
        site={code}
        siteName={view.site.name}
        orders={view.orders}
        onClose={() => setPending(undefined)}
        onOpened={take}
      />
    </div>
  )
}

/** Where the tray is while a work order for the site is open: the way to one. */
function NoOrder({
  site,
  current,
  onOpen,
}: {
  site: Schemas['SiteHead']
  current?: Schemas['OrderHead']
  onOpen: () => void
}) {
  return (
    <div className="col-span-full bg-basalt text-on-basalt-2 flex items-center gap-4 px-4 min-h-[56px] border-t border-basalt-line">
      <span>
        Shown as it stands at revision {site.revision}.{' '}
        {current && current.state === 'open'
          ? `${current.name} is for another site.`
          : 'Edits are kept in a work order.'}
      </span>
      <button className={`btn ml-auto ${current?.state === 'open' ? 'btn-dark' : 'btn-next'}`} onClick={onOpen}>
        Open a work order
      </button>
    </div>
  )
}

/** The device that serves the network's pools, or could. */
const serverOf = (view?: Schemas['View']) => {
  const where = view?.network?.where.split(' on ')[1]
  return view?.devices.find((d) => d.name === where)?.id ?? view?.devices[0]?.id ?? ''
}

const levelsOf = (view: Schemas['View']) =>
  view.inspect?.levels.length
    ? view.inspect.levels
    : [
        { ref: `network:${view.network?.id}`, name: `the network ${view.network?.name}` },
        { ref: `site:${view.site.id}`, name: `the site ${view.site.name}` },
      ]

/** The Section folded into a choice, on narrow screens. */
function NetworkPicker({
  view,
  onSite,
  onNetwork,
  onAdd,
}: {
  view: Schemas['View']
  onSite: () => void
  onNetwork: (id: string) => void
  onAdd: () => void
}) {
  return (
    <div className="min-[1001px]:hidden flex items-center gap-3 px-4 py-2 border-b border-seam">
      <button className="font-bold hover:underline" onClick={onSite}>
        {view.site.name}
      </button>
      <select
        aria-label="Network"
        className="field !w-auto"
        value={view.network?.id}
        onChange={(e) => onNetwork(e.target.value)}
      >
        {view.layers
          .filter((l) => l.kind === 'network')
          .map((l) => (
            <option key={l.id} value={l.id}>
              {l.name} {l.prefix}
            </option>
          ))}
      </select>
      <button className="btn" onClick={onAdd}>
        Add a network
      </button>
    </div>
  )
}
