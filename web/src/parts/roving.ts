import { focusHome } from '../frame/places'
import { useLayoutEffect, useRef, type FocusEvent, type KeyboardEvent } from 'react'

/** Where a key goes in a list of so many rows; nowhere for another key. */
export function listStep(key: string, at: number, count: number): number | undefined {
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

/** Letters typed one after the other. After a click in a list, letters are left to the page's keys. */
export class TypeAhead {
  private text = ''
  private at = 0
  byHand = false

  /** What has been typed with this key; nothing where the key is no letter. */
  add(e: KeyboardEvent): string | undefined {
    const mark = '[]/?'
    if (
      this.byHand ||
      e.key.length !== 1 ||
      e.key === ' ' ||
      mark.includes(e.key) ||
      e.ctrlKey ||
      e.metaKey ||
      e.altKey
    )
      return undefined
    if (e.timeStamp - this.at > pause) this.text = ''
    this.at = e.timeStamp
    this.text += e.key.toLowerCase()
    return this.text
  }
}

/** The row among some texts that a word of begins as was typed, looked for from one place on and round. */
export function typedRow(texts: string[], typed: string, from: number): number | undefined {
  const begins = (text: string) =>
    ` ${text.toLowerCase()}`.split(/[\s·–]+|(?=\.)/).some((w) => w.startsWith(typed)) ||
    text.toLowerCase().includes(` ${typed}`) ||
    text.toLowerCase().startsWith(typed)
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
  const ahead = useRef(new TypeAhead())
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
    if (e.key === 'Escape') {
      focusHome()
      return
    }
    let to = listStep(e.key, at, rows.length)
    if (to !== undefined) ahead.current.byHand = false
    // What else is on a line leaves letters to the page's keys.
    const onRow = 'row' in (e.target as HTMLElement).dataset
    const typed = to === undefined && onRow ? ahead.current.add(e) : undefined
    if (typed)
      to = typedRow(
        rows.map((r) => lineOf(r).textContent),
        typed,
        at,
      )
    if (to === undefined && !typed) return
    e.preventDefault()
    if (to !== undefined) rows[to]?.focus()
  }
  const onFocus = (e: FocusEvent) => {
    const row = (e.target as HTMLElement).closest<HTMLElement>('[data-row]')
    if (row) settle(ref.current, row)
  }
  const onPointerDown = () => {
    ahead.current.byHand = true
  }
  return { ref, onKeyDown, onFocus, onPointerDown }
}
