import {
  memo,
  useDeferredValue,
  useLayoutEffect,
  useMemo,
  useRef,
  useState,
  useSyncExternalStore,
  type KeyboardEvent,
} from 'react'
import type { Row } from '../api/client'
import { Mark, Shape } from '../parts/Kind'
import { LongBody, useLongList } from '../parts/LongList'
import { SortHead, sorted, useSort } from '../parts/rows'
import { CopyWord } from '../parts/Copy'
import { When } from '../parts/When'
import { useInAddress } from '../parts/useInAddress'

type Column = 'from' | 'kind' | 'name' | 'mac' | 'seen'
const columns: { key: Column; name: string; width?: string }[] = [
  { key: 'from', name: 'Address' },
  { key: 'kind', name: 'Use', width: '120px' },
  { key: 'name', name: 'Name' },
  { key: 'mac', name: 'MAC', width: '186px' },
  { key: 'seen', name: 'Seen', width: '86px' },
]

type Props = {
  rows: Row[]
  selected: string
  zone: string
  scroller: HTMLElement | null
  onSelect: (ref: string) => void
  onPaste: () => void
  /** Of a network without a pool. */
  onFirstPool?: () => void
}

/** Everything that owns an address of the network, in address order. */
export function OwnersList({ rows, selected, zone, scroller, onSelect, onPaste, onFirstPool }: Props) {
  const sorting = useSort<Column>('from')
  const { sort } = sorting
  const [typed, setFilter] = useInAddress('filter')
  // The list follows what is typed when there is time; typing never waits for it.
  const filter = useDeferredValue(typed)
  // Sorted and put in lower case once, so that a letter more in the filter only compares.
  const lines = useMemo(() => {
    // As they come they are in the order of their addresses.
    const inOrder =
      sort.by !== 'from' ? sorted(rows, sort, (r, by) => r[by] ?? '') : sort.down ? [...rows].reverse() : rows
    return inOrder.map((row) => ({
      row,
      text: `${row.text} ${row.use} ${row.name} ${row.mac ?? ''} ${row.detail ?? ''}`.toLowerCase(),
    }))
  }, [rows, sort])
  const shown = useMemo(() => {
    const words = filter.toLowerCase()
    return lines.filter((l) => l.text.includes(words)).map((l) => l.row)
  }, [lines, filter])
  // A range is never cut off: the column is as wide as the longest of them.
  const widest = useMemo(() => `${24 + 7.9 * rows.reduce((most, r) => Math.max(most, r.text.length), 18)}px`, [rows])
  const narrow = useNarrow()
  const list = useLongList(scroller, shown.length)
  const { body, keys, virtual, items } = list
  // The list is one stop of the Tab key: the row the keyboard was on last, else the selected one, else the first.
  const [at, setAt] = useState<number>()
  const wanted = useRef<number>(undefined)
  const chosen = useMemo(() => shown.findIndex((r) => r.ref === selected), [shown, selected])
  const stop = Math.min(at ?? Math.max(chosen, 0), shown.length - 1)
  const go = (index: number) => {
    wanted.current = index
    setAt(index)
    virtual.scrollToIndex(index)
  }
  useLayoutEffect(() => {
    if (wanted.current === undefined) return
    const row = body.current?.querySelector<HTMLElement>(`[data-at="${wanted.current}"]`)
    if (!row) return
    wanted.current = undefined
    row.focus()
  })
  const onKeyDown = (e: KeyboardEvent) => {
    const on = Number((e.target as HTMLElement).dataset.at ?? NaN)
    if (isNaN(on)) return
    const move = keys.current.move(e, on, shown.length, () => shown.map((r) => `${r.text} ${r.name} ${r.use}`))
    if (!move) return
    e.preventDefault()
    if (move.to !== undefined) go(move.to)
  }
  return (
    <>
      <div className="flex flex-wrap justify-end gap-2 mt-1 print:hidden">
        {onFirstPool && (
          <button className="btn !h-[28px]" onClick={onFirstPool}>
            Add the first pool
          </button>
        )}
        <button className="btn !h-[28px]" onClick={onPaste}>
          Paste many
        </button>
        <input
          aria-label="Filter the list"
          placeholder="Filter"
          value={typed}
          onChange={(e) => setFilter(e.target.value)}
          className="field !h-[28px] !w-[170px]"
        />
      </div>
      <table className="table-fixed folds min-[641px]:min-w-[560px]">
        <thead>
          <tr>
            {columns.map((c) => (
              <SortHead
                key={c.key}
                by={c.key}
                label={c.name}
                width={c.key === 'from' ? widest : c.width}
                {...sorting}
              />
            ))}
          </tr>
        </thead>
        <LongBody list={list} columns={columns.length} onKeyDown={onKeyDown}>
          {items.map((item) => {
            const r = shown[item.index]
            return (
              r && (
                <OwnerRow
                  key={`${r.ref}/${r.from}`}
                  row={r}
                  zone={zone}
                  index={item.index}
                  measure={narrow ? virtual.measureElement : undefined}
                  stop={item.index === stop}
                  on={r.ref === selected}
                  onSelect={onSelect}
                />
              )
            )
          })}
        </LongBody>
      </table>
      {shown.length === 0 && (
        <p className="p-4 text-ink-2">
          {rows.length
            ? 'Nothing in this network matches the filter.'
            : 'Nothing owns an address here yet. Drag over the ruler to make a pool, reserve an address or ' +
              'record a fixed device.'}
        </p>
      )}
    </>
  )
}

const folded = matchMedia('(max-width: 640px)')
const onFold = (tell: () => void) => {
  folded.addEventListener('change', tell)
  return () => {
    folded.removeEventListener('change', tell)
  }
}

/** Whether tables are folded: a row is then as high as its cells need. */
const useNarrow = () => useSyncExternalStore(onFold, () => folded.matches)

const tints: Record<string, string> = { blocks: 'bg-cinnabar-t', warns: 'bg-sand-t' }

const OwnerRow = memo(function OwnerRow({
  row: r,
  zone,
  index,
  measure,
  stop,
  on,
  onSelect,
}: {
  row: Row
  zone: string
  /** Its place in the list, and whether the Tab key stops at it. */
  index: number
  stop: boolean
  /** Takes its height, which is more than one line where the page is narrow. */
  measure?: (row: Element | null) => void
  on: boolean
  onSelect: (ref: string) => void
}) {
  // What copies is drawn on the row that has the pointer or the keyboard focus.
  const [near, setNear] = useState(false)
  // A positioned cell is a layer of its own: thousands of them, scrolled, are painted one by one.
  const cell = near ? 'list-cell relative' : 'list-cell'
  return (
    <tr
      ref={measure}
      onPointerEnter={() => setNear(true)}
      onPointerLeave={() => setNear(false)}
      onFocus={() => setNear(true)}
      onBlur={({ currentTarget, relatedTarget }) => {
        if (!currentTarget.contains(relatedTarget)) setNear(currentTarget.matches(':hover'))
      }}
      data-index={index}
      onClick={() => onSelect(r.ref)}
      className={
        `cursor-pointer ${r.severity ? (tints[r.severity] ?? '') : 'hover:bg-slab'} ` +
        (on ? 'shadow-[inset_3px_0_var(--ink)]' : '')
      }
    >
      <td className={`${cell} mono`}>
        <button
          data-row
          data-at={index}
          tabIndex={stop ? 0 : -1}
          className="hover:underline"
          aria-pressed={on}
          onClick={(e) => {
            e.stopPropagation()
            onSelect(r.ref)
          }}
        >
          {r.text}
        </button>
        {near && <CopyWord text={r.from === r.to ? r.from : `${r.from} - ${r.to}`} stop={stop} what="the address" />}
      </td>
      <td className="list-cell">
        <Shape kind={r.kind} />
        {r.use}
      </td>
      <td className={cell}>
        {r.severity && (
          <>
            <Mark severity={r.severity} />{' '}
          </>
        )}
        <span title={r.name}>{r.name}</span>
        {r.detail && <span className="text-ink-3 ml-2">{r.detail}</span>}
        {near && r.name && <CopyWord text={r.name} stop={stop} what="the name" />}
        {r.kind === 'unrecorded' && <span className="text-ink-3 ml-2">nobody recorded it</span>}
      </td>
      <td className={`${cell} mono text-ink-2`}>
        {r.kind === 'pool' ? (
          <span className="font-sans text-[13px]">
            {r.on ? `${r.used ?? 0} of ${r.size ?? 0} in use` : 'switched off'}
          </span>
        ) : (
          <>
            {r.mac}
            {near && r.mac && <CopyWord text={r.mac} stop={stop} what="the MAC" />}
          </>
        )}
      </td>
      <td className="list-cell text-ink-2">{r.seen && <When at={r.seen} zone={zone} />}</td>
    </tr>
  )
})
