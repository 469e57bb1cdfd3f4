import { useEffect, useId, useRef, useState } from 'react'
import { Instead } from '../parts/Field'
import { Mark } from '../parts/Kind'
import { When } from '../parts/When'
import type { NameRow } from './useNames'

export type CellColumn =
  'name' | 'type' | 'inside' | 'outside' | 'reverse' | 'from' | 'ttl' | 'until' | 'atServer' | 'since'

/** Why what was typed into a cell is not written, with what may be meant. */
export type Wrong = { says: string; instead?: string }

type Props = {
  column: CellColumn
  /** None for the line of a new name. */
  row?: NameRow
  zone: string
  place: string
  stop: boolean
  editable: boolean
  editing: boolean
  fresh?: string
  wrong?: Wrong
  onEdit: () => void
  onWrite: (text: string, then?: number) => void
  onGiveUp: () => void
}

const labels: Record<CellColumn, string> = {
  name: 'Name',
  type: 'Type',
  inside: 'Inside',
  outside: 'Outside',
  reverse: 'Reverse',
  from: 'Comes from',
  ttl: 'TTL',
  until: 'Until',
  atServer: 'At the server',
  since: 'Age',
}

/** One cell of the list of names: what it says, or the field it is written in. */
export function Cell(props: Props) {
  const { column, row: r, place, stop, editable, editing, fresh } = props
  if (editing) return <Written {...props} />
  const mono = !['from', 'until', 'since'].includes(column) && !(column === 'outside' && r?.outsideSays)
  const says = r ? <Text column={column} row={r} zone={props.zone} /> : <Hint column={column} fresh={fresh} />
  const common = {
    'data-cell': place,
    'data-row': column === 'name' ? true : undefined,
    tabIndex: stop ? 0 : -1,
    className: `block min-w-4 max-w-full truncate text-left ${r?.hidden ? 'text-ink-3 line-through' : ''}`,
  }
  return (
    <td className={`list-cell ${mono ? 'mono' : ''} ${column === 'name' ? 'font-semibold' : ''}`}>
      {editable ? (
        <button
          {...common}
          title={`${labels[column]}: Enter or a double click writes here`}
          aria-label={r || fresh || column === 'name' ? undefined : 'Value of the new name'}
          onDoubleClick={props.onEdit}
          onClick={() => {
            if (!r) props.onEdit()
          }}
        >
          {says}
        </button>
      ) : (
        <span {...common}>{says}</span>
      )}
    </td>
  )
}

function Hint({ column, fresh }: { column: CellColumn; fresh?: string }) {
  if (fresh) return fresh
  return <span className="text-ink-3 font-normal font-sans">{column === 'name' ? 'New name' : ''}</span>
}

function Text({ column, row: r, zone }: { column: CellColumn; row: NameRow; zone: string }) {
  switch (column) {
    case 'name':
      return <Name row={r} />
    case 'type':
      return r.type
    case 'inside':
      return <Inside row={r} />
    case 'outside':
      return r.outsideSays ? <span className="text-ink-2">{r.outsideSays}</span> : r.outside
    case 'reverse':
      return r.reverseSays ? <span className="font-sans text-ink-2">{r.reverseSays}</span> : r.reverse
    case 'from':
      return (
        <span className="text-ink-2">
          {r.from}
          {r.changed && <span className="text-malachite-ink"> · draft</span>}
        </span>
      )
    case 'ttl':
      return r.ttl ? <span className="text-ink-2">{duration(r.ttl)}</span> : null
    case 'atServer':
      return r.atServer === r.outside ? <span className="text-ink-3 font-sans">the same</span> : r.atServer
    case 'since':
      return r.since ? <When at={r.since} zone={zone} age /> : null
    case 'until':
      return r.until ? <When at={r.until} zone={zone} /> : null
  }
}

function Name({ row: r }: { row: NameRow }) {
  return (
    <>
      {r.severity && (
        <>
          <Mark severity={r.severity} />{' '}
        </>
      )}
      <span title={r.whole || undefined}>{r.name}</span>
      {r.changed && <span className="sr-only"> {r.changed} by the draft</span>}
    </>
  )
}

function Inside({ row: r }: { row: NameRow }) {
  return (
    <span title={r.leads ? `${r.inside} → ${r.leads}` : r.inside}>
      {r.alias && <span className="text-ink-3">→ </span>}
      {!['A', 'AAAA', 'CNAME', 'PTR', ''].includes(r.type) && <span className="text-ink-3">{r.type} </span>}
      {r.inside}
    </span>
  )
}

/** Seconds in the largest unit that counts them whole. */
function duration(s: number): string {
  if (s % 86400 === 0) return `${s / 86400} d`
  if (s % 3600 === 0) return `${s / 3600} h`
  if (s % 60 === 0) return `${s / 60} min`
  return `${s} s`
}

/** The field of a cell: Enter writes, Tab writes and goes on, Escape gives up. */
function Written({ column, row: r, fresh, wrong, onWrite, onGiveUp }: Props) {
  const was = (column === 'name' ? r?.name : column === 'ttl' ? String(r?.ttl ?? '') : (r?.inside ?? r?.outside)) ?? ''
  const first = was.split(', ')[0] ?? ''
  const [text, setText] = useState(r ? first : (fresh ?? ''))
  const id = useId()
  const input = useRef<HTMLInputElement>(null)
  useEffect(() => {
    input.current?.select()
  }, [])
  return (
    <td className="list-cell relative" onClick={(e) => e.stopPropagation()}>
      <input
        id={id}
        ref={input}
        autoFocus
        aria-label={labels[column]}
        aria-invalid={wrong ? true : undefined}
        className="field mono !h-[25px] !px-1.5 !border-2 !border-azurite"
        autoComplete="off"
        spellCheck={false}
        value={text}
        placeholder={r ? undefined : column === 'name' ? 'label-prn' : '10.84.20.40 or a name'}
        onChange={(e) => setText(e.target.value)}
        onKeyDown={(e) => {
          e.stopPropagation()
          if (e.key === 'Escape') onGiveUp()
          else if (e.key === 'Enter' || e.key === 'Tab') {
            e.preventDefault()
            const then = e.key === 'Tab' ? (e.shiftKey ? -1 : 1) : undefined
            if (r && text === first && then === undefined) onGiveUp()
            else onWrite(text, then)
          }
        }}
      />
      {wrong && (
        <span
          role="alert"
          className={
            'absolute left-1 top-full z-20 bg-sheet border border-cinnabar text-cinnabar-ink text-[12.5px] ' +
            'px-2 py-1 max-w-[360px] w-max'
          }
        >
          {wrong.says}
          {wrong.instead && <Instead of={id} text={wrong.instead} />}
        </span>
      )}
    </td>
  )
}
