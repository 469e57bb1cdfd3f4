import { focusHome } from '../frame/places'
import { useLayoutEffect, useRef, type FocusEvent, type KeyboardEvent } from 'react'

/** Where a key goes in a list of so many rows; nowhere for another key. */
function listStep(key: string, at: number, count: number): number | undefined {
  const page = 10
  const to = {
    ArrowDown: at + 1,
    ArrowUp: at - 1,
    PageDown: at + page,
    PageUp: at - page,
    Home: 0,
    End: count - 1,
  }[key]
  return to === undefined ? undefined : Math.min(count - 1, Math.max(0, to))
}

const pause = 800 // ms, after which a letter begins anew

/** What a key does in a list: another row to go to, nothing but that the key is taken, or nothing at all. */
type Move = { to?: number } | undefined

/**
 * The keys of a list: arrows, Home, End, the Page keys, and letters typed one after the other. After a click in a list,
 * letters are left to the page's keys.
 */
export class ListKeys {
  private text = ''
  private at = 0
  byHand = false

  /** What a key does on one row of some; texts are what letters are compared with, letters whether they count. */
  move(e: KeyboardEvent, row: number, count: number, texts: () => string[], letters = true): Move {
    if (e.key === 'Escape') {
      focusHome()
      return undefined
    }
    const to = listStep(e.key, row, count)
    if (to !== undefined) {
      this.byHand = false
      return { to }
    }
    return letters && this.add(e) ? { to: typedRow(texts(), this.text, row) } : undefined
  }

  private add(e: KeyboardEvent): boolean {
    const marks = ' []/?'
    if (this.byHand || e.key.length !== 1 || marks.includes(e.key) || e.ctrlKey || e.metaKey || e.altKey) return false
    if (e.timeStamp - this.at > pause) this.text = ''
    this.at = e.timeStamp
    this.text += e.key.toLowerCase()
    return true
  }
}

/** The row among some texts that a word of begins as was typed, looked for from one place on and round. An address
 * begins anew at each of its dots. */
function typedRow(texts: string[], typed: string, from: number): number | undefined {
  const begins = (text: string) => {
    const line = ` ${text.toLowerCase().replace(/[\s·–]+/g, ' ')}`
    return line.includes(` ${typed}`) || (typed.startsWith('.') && line.includes(typed))
  }
  const start = typed.length > 1 ? from : from + 1
  for (let n = 0; n < texts.length; n++) {
    const i = (start + n) % texts.length
    if (begins(texts[i] ?? '')) return i
  }
  return undefined
}

const rowsOf = (list: HTMLElement) => [...list.querySelectorAll<HTMLElement>('[data-row]')]
const lineOf = (row: Element) => row.closest('[data-line]') ?? row.closest('tr, li') ?? row

/** Makes one row of a list the stop of the Tab key, with what else is on its line. */
function settle(list: HTMLElement | null, chosen?: HTMLElement | null) {
  if (!list) return
  const rows = rowsOf(list)
  const on =
    chosen ??
    rows.find((r) => r === document.activeElement) ??
    rows.find((r) => r.tabIndex === 0 && r.dataset.stop) ??
    rows.find((r) => r.ariaPressed === 'true' || r.ariaCurrent === 'true') ??
    rows[0]
  for (const row of rows) {
    row.tabIndex = row === on ? 0 : -1
    if (row === on) row.dataset.stop = 'yes'
    else delete row.dataset.stop
  }
  const line = on && lineOf(on)
  for (const inner of list.querySelectorAll<HTMLElement>('a, button, select, input')) {
    if (!('row' in inner.dataset)) inner.tabIndex = line?.contains(inner) ? 0 : -1
  }
}

/** A list that is one stop of the Tab key. The arrows, Home, End, the Page keys and letters move in it from one element
 * marked data-row to another. */
export function useRoving<T extends HTMLElement>() {
  const ref = useRef<T>(null)
  const keys = useRef(new ListKeys())
  useLayoutEffect(() => {
    settle(ref.current)
  })
  const onKeyDown = (e: KeyboardEvent) => {
    const list = ref.current
    if (!list || (e.target as HTMLElement).matches('input, select, textarea')) return
    const rows = rowsOf(list)
    const line = lineOf(e.target as Element)
    const at = rows.findIndex((r) => lineOf(r) === line)
    if (at < 0) return
    // What else is on a line leaves letters to the page's keys.
    const onRow = 'row' in (e.target as HTMLElement).dataset
    const move = keys.current.move(e, at, rows.length, () => rows.map((r) => lineOf(r).textContent), onRow)
    if (!move) return
    e.preventDefault()
    if (move.to !== undefined) rows[move.to]?.focus()
  }
  const onFocus = (e: FocusEvent) => {
    const row = (e.target as HTMLElement).closest<HTMLElement>('[data-row]')
    if (row) settle(ref.current, row)
  }
  const onPointerDown = () => {
    keys.current.byHand = true
  }
  return { ref, onKeyDown, onFocus, onPointerDown }
}
