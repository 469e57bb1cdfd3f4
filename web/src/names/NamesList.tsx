import { useDeferredValue, useLayoutEffect, useMemo, useRef, useState, type KeyboardEvent } from 'react'
import { problemOf, type Change, type Schemas } from '../api/client'
import { Alert } from '../parts/Alert'
import { Mark } from '../parts/Kind'
import { LongBody, useLongList } from '../parts/LongList'
import { When } from '../parts/When'
import { Cell, type CellColumn, type Wrong } from './Cell'
import type { NameRow, Names } from './useNames'
import { useInAddress, useSwitchInAddress } from '../parts/useInAddress'

type Column = { key: CellColumn; name: string; width?: string }

/** The columns of what is listed: a zone inside has all of them. */
function columnsOf(names: Names): Column[] {
  const value = { key: 'inside', name: 'Inside' } as const
  const from = { key: 'from', name: 'Comes from' } as const
  const ttl = { key: 'ttl', name: 'TTL', width: '56px' } as const
  const { chosen } = names
  const settings: Record<string, [string, string, string]> = {
    servers: ['Domain', 'Asked of', 'Covers'],
    home: ['Names', 'What becomes of them', 'Which'],
    forwarders: ['Order', 'Server', 'Over'],
  }
  const heads = settings[chosen]
  if (heads)
    return [
      { key: 'name', name: heads[0] },
      { ...value, name: heads[1] },
      { ...from, name: heads[2] },
    ]
  const age = { key: 'since', name: 'Age', width: '64px' } as const
  if (chosen === 'leases') return [{ key: 'name', name: 'Name' }, value, from, { key: 'until', name: 'Until' }, age]
  if (chosen === 'reverse') return [{ key: 'name', name: 'Address' }, { ...value, name: 'Name' }, from, ttl]
  if (names.layers.find((s) => s.id === chosen)?.outside)
    return [
      { key: 'name', name: 'Name' },
      { key: 'type', name: 'Type', width: '64px' },
      { key: 'outside', name: names.readAt ? 'In Lithos' : 'Outside' },
      ...(names.readAt ? [{ key: 'atServer', name: 'At the server', width: '114px' } as const] : []),
      { ...from, width: '104px' },
      ttl,
      age,
    ]
  return [
    { key: 'name', name: 'Name' },
    { ...value, width: '106px' },
    { key: 'outside', name: 'Outside', width: '106px' },
    { key: 'reverse', name: 'Reverse', width: '106px' },
    { ...from, width: '90px' },
    ttl,
    age,
  ]
}

const tints: Record<string, string> = { blocks: 'bg-cinnabar-t', warns: 'bg-sand-t' }

type Props = {
  names: Names
  zone: string
  selected: string
  scroller: HTMLElement | null
  /** A draft is open: cells can be written to. */
  save: (change: Change) => Promise<Schemas['Changed']>
  ordered: boolean
  needOrder: () => void
  onSelect: (row: NameRow) => void
}

/** The names of one layer. Cells are edited in place: the arrows move, Enter writes, Tab goes on to the next. */
export function NamesList({ names, zone, selected, scroller, save, ordered, needOrder, onSelect }: Props) {
  const columns = useMemo(() => columnsOf(names), [names])
  const [typed, setFilter] = useInAddress('names')
  const filter = useDeferredValue(typed)
  const [grouped, setGrouped] = useSwitchInAddress('grouped')
  const rows = useMemo(() => {
    const shown = matching(names.rows, filter)
    return grouped ? byMachine(shown) : shown
  }, [names.rows, filter, grouped])
  const isZone = names.ref?.startsWith('zone:') ?? false
  const count = rows.length + (isZone ? 1 : 0) // the last line is a new one
  const list = useLongList(scroller, count)
  const { body, keys, virtual, items } = list
  const [at, setAt] = useState({ row: 0, col: 0 })
  const [editing, setEditing] = useState<{ row: number; col: number }>()
  const [fresh, setFresh] = useState<Record<string, string>>({})
  const [wrong, setWrong] = useState<Wrong>()
  const [land, setLand] = useState<{ row: number; col: number }>()
  const wanted = useRef(false)
  const stop = { row: Math.min(at.row, count - 1), col: Math.min(at.col, columns.length - 1) }
  const go = (row: number, col: number) => {
    wanted.current = true
    setAt({ row: Math.min(Math.max(row, 0), count - 1), col: Math.min(Math.max(col, 0), columns.length - 1) })
    virtual.scrollToIndex(Math.min(Math.max(row, 0), count - 1))
  }
  useLayoutEffect(() => {
    if (!land) return
    wanted.current = true
    virtual.scrollToIndex(land.row)
    // eslint-disable-next-line react-hooks/exhaustive-deps -- to land is to go there once
  }, [land])
  useLayoutEffect(() => {
    if (!wanted.current) return
    const cell = body.current?.querySelector<HTMLElement>(`[data-cell="${stop.row}/${stop.col}"]`)
    if (!cell) return
    wanted.current = false
    cell.focus()
  })
  const field = (row: number, col: number): string | undefined => {
    const key = columns[col]?.key
    const r = rows[row]
    if (!r) return key === 'name' ? 'owner' : key === 'inside' || key === 'outside' ? 'data' : undefined
    if (key === 'name') return r.nameField
    if (key === 'inside' || (key === 'outside' && names.layers.find((s) => s.id === names.chosen)?.outside))
      return r.valueField
    if (key === 'ttl' && r.ref && /^(record|service):/.test(r.ref)) return 'ttl'
    return undefined
  }
  const edit = (row: number, col: number) => {
    if (!field(row, col)) return
    if (!ordered) {
      needOrder()
      return
    }
    setWrong(undefined)
    setAt({ row, col })
    setEditing({ row, col })
  }
  const onKeyDown = (e: KeyboardEvent) => {
    const cell = (e.target as HTMLElement).dataset.cell
    if (!cell) return
    const [row = 0, col = 0] = cell.split('/').map(Number)
    if (e.key === 'ArrowRight' || e.key === 'ArrowLeft') {
      e.preventDefault()
      go(row, col + (e.key === 'ArrowRight' ? 1 : -1))
      return
    }
    if (e.key === 'F2' || (e.key === 'Enter' && field(row, col))) {
      e.preventDefault()
      edit(row, col)
      return
    }
    const move = keys.current.move(e, row, count, () => rows.map((r) => `${r.name} ${r.inside ?? ''}`))
    if (!move) return
    e.preventDefault()
    if (move.to !== undefined) go(move.to, col)
  }
  // Where to go on when the list is as a change left it: a name that is changed has another place.
  const [follow, setFollow] = useState<{ ref: string; col: number; edit: boolean; version: number }>()
  if (follow && names.version >= follow.version) {
    setFollow(undefined)
    const row = rows.findIndex((r) => r.ref === follow.ref)
    if (row >= 0) {
      setAt({ row, col: follow.col })
      if (follow.edit) setEditing({ row, col: follow.col })
      else setLand({ row, col: follow.col })
    }
  }
  /** Writes what was typed into a cell; then is where to go on. */
  const write = async (row: number, col: number, text: string, then?: number) => {
    const name = field(row, col)
    if (!name) return
    const r = rows[row]
    let changed: Schemas['Changed']
    try {
      if (r?.makes)
        changed = await save({
          entries: [{ kind: 'reservation', id: '', new: true, fields: { ...r.makes, [name]: text } }],
        })
      else if (r) changed = await save({ entries: [entryOf(r, { [name]: text })] })
      else {
        const values = { ...fresh, [name]: text }
        setFresh(values)
        if (!values.owner || !values.data) {
          const next = name === 'owner' ? columns.findIndex((c) => c.key === 'inside' || c.key === 'outside') : 0
          setEditing({ row, col: next })
          return
        }
        changed = await save({ entries: [newEntry(names, values)] })
        setFresh({})
      }
      setWrong(undefined)
    } catch (e) {
      const p = problemOf(e)
      setWrong({ says: Object.values(p.fields)[0] ?? p.message, instead: Object.values(p.instead)[0] })
      return
    }
    const on = then === undefined ? undefined : nextEditable(field, row, col, then, columns.length)
    setEditing(undefined)
    setFollow({
      ref: (r?.makes ? changed.made : r?.ref) ?? changed.made ?? '',
      col: on ?? col,
      edit: on !== undefined,
      version: changed.order?.version ?? 0,
    })
  }
  const cell = (index: number, col: number) => {
    const c = columns[col]
    const r = rows[index]
    if (!c) return null
    const on = editing?.row === index && editing.col === col
    return (
      <Cell
        key={c.key}
        column={c.key}
        row={r}
        zone={zone}
        place={`${index}/${col}`}
        stop={stop.row === index && stop.col === col}
        editable={field(index, col) !== undefined}
        editing={on}
        fresh={r ? undefined : (fresh[field(index, col) ?? ''] ?? '')}
        wrong={on ? wrong : undefined}
        onEdit={() => edit(index, col)}
        onWrite={(text, then) => void write(index, col, text, then)}
        onGiveUp={() => {
          setEditing(undefined)
          setWrong(undefined)
          go(index, col)
        }}
      />
    )
  }
  return (
    <>
      <NamesFilter
        typed={typed}
        onType={setFilter}
        grouped={grouped}
        onGroup={isZone && names.rows.length > 1 ? setGrouped : undefined}
      />
      <table
        className="table-fixed folds min-[641px]:min-w-[560px] [&_.list-cell]:px-1.5 [&_.list-head]:px-1.5"
        aria-label="Names"
      >
        <thead>
          <tr>
            {columns.map((c) => (
              <th key={c.key} className="list-head" style={{ width: c.width }}>
                {c.name}
              </th>
            ))}
          </tr>
        </thead>
        <LongBody list={list} columns={columns.length} onKeyDown={onKeyDown}>
          {items.map((item) => {
            const r = rows[item.index]
            return (
              <tr
                key={r ? r.key : 'new'}
                onClick={() => {
                  if (r) onSelect(r)
                }}
                className={
                  `${r ? 'cursor-pointer' : ''} ${r?.severity ? (tints[r.severity] ?? '') : 'hover:bg-slab'} ` +
                  `${r?.changed ? 'shadow-[inset_3px_0_var(--malachite)]' : ''} ` +
                  (r?.ref && r.ref === selected ? 'shadow-[inset_3px_0_var(--ink)]' : '')
                }
              >
                {columns.map((_, col) => cell(item.index, col))}
              </tr>
            )
          })}
        </LongBody>
      </table>
      {rows.length === 0 && typed !== '' && <p className="p-4 text-ink-2">No name here matches the filter.</p>}
      <NamesFoot names={names} zone={zone} />
    </>
  )
}

/** The rows that say what is looked for, whatever the capitals. */
const matching = (rows: NameRow[], filter: string) =>
  rows.filter((r) =>
    `${r.name} ${r.inside ?? ''} ${r.outside ?? ''} ${r.leads ?? ''} ${r.type} ${r.from}`
      .toLowerCase()
      .includes(filter.toLowerCase()),
  )

/** What is typed to find names, and whether they are grouped, where they can be. */
function NamesFilter({
  typed,
  onType,
  grouped,
  onGroup,
}: {
  typed: string
  onType: (text: string) => void
  grouped: boolean
  onGroup?: (on: boolean) => void
}) {
  return (
    <div className="flex flex-wrap justify-end items-center gap-3 mt-1.5 mb-1 print:hidden">
      {onGroup && (
        <label className="inline-flex gap-1.5 items-center text-ink-2">
          <input type="checkbox" checked={grouped} onChange={(e) => onGroup(e.target.checked)} /> Grouped by what they
          name
        </label>
      )}
      <input
        aria-label="Filter the names"
        placeholder="Filter"
        value={typed}
        onChange={(e) => onType(e.target.value)}
        className="field !h-[28px] !w-[170px]"
      />
    </div>
  )
}

/** From what the names were learnt, and what the marks mean. */
function NamesFoot({ names, zone }: Pick<Props, 'names' | 'zone'>) {
  return (
    <>
      {names.readAt && (
        <p className="text-ink-3 text-[12.5px] mt-2">
          As {names.readFrom} told it, read <When at={names.readAt} zone={zone} />
        </p>
      )}
      {names.problem && <Alert className="mt-2">{`It was not read the last time: ${names.problem}.`}</Alert>}
      {names.rows.some((r) => r.severity) && (
        <p className="sr-only">
          <Mark severity="warns" /> marks names with findings; select one to read it.
        </p>
      )}
    </>
  )
}

/** The next cell of a row that can be written to, in a direction. */
function nextEditable(
  field: (row: number, col: number) => string | undefined,
  row: number,
  from: number,
  by: number,
  count: number,
) {
  for (let col = from + by; col >= 0 && col < count; col += by) if (field(row, col)) return col
  return undefined
}

const entryOf = (r: NameRow, fields: Record<string, string>) => {
  const ref = r.ref ?? ''
  const cut = ref.indexOf(':')
  return { kind: ref.slice(0, cut), id: ref.slice(cut + 1), in: r.in, fields }
}

/** A new record: its type is what the server makes of its value in this zone. */
const newEntry = (names: Names, values: Record<string, string>) => ({
  kind: 'record',
  id: '',
  new: true,
  in: names.ref,
  fields: { owner: values.owner ?? '', data: values.data ?? '' },
})

/** Rows one after another that name the same machine, the machine's own name before its aliases. */
function byMachine(rows: NameRow[]): NameRow[] {
  const machine = (r: NameRow) => (r.alias ? r.leads?.split(' → ').at(-1) : r.inside?.split(', ')[0]) ?? ''
  const order = new Map<string, number>()
  rows.forEach((r) => {
    if (!order.has(machine(r))) order.set(machine(r), order.size)
  })
  return [...rows].sort(
    (a, b) =>
      (order.get(machine(a)) ?? 0) - (order.get(machine(b)) ?? 0) || Number(a.alias ?? 0) - Number(b.alias ?? 0),
  )
}
