import { useState, type MouseEvent } from 'react'
import { useNavigate } from 'react-router'

/** A row that opens its thing wherever it is clicked; its title is the link, for the keyboard. */
export function useOpenRow() {
  const navigate = useNavigate()
  return (to: string) => ({
    className: 'hover:bg-slab cursor-pointer',
    onClick: (e: MouseEvent) => {
      const own = (e.target as HTMLElement).closest('a, button, input')
      if (!own && !getSelection()?.toString()) void navigate(to)
    },
  })
}

type Sort<K> = { by?: K; down: boolean }

/** Sorting by a column, at first by one if one is named: the first click one way, the second the other, the third as
 * it came. */
export function useSort<K extends string>(by?: K) {
  const [sort, setSort] = useState<Sort<K>>({ by, down: false })
  const flip = (by: K) =>
    setSort((was) => (was.by !== by ? { by, down: false } : was.down ? { down: false } : { by, down: true }))
  return { sort, flip }
}

const collator = new Intl.Collator('en', { numeric: true })

export function sorted<T, K extends string>(rows: T[], sort: Sort<K>, value: (row: T, by: K) => string | number): T[] {
  const { by, down } = sort
  if (!by) return rows
  const order = (a: T, b: T) => {
    const [x, y] = [value(a, by), value(b, by)]
    return typeof x === 'number' && typeof y === 'number' ? x - y : collator.compare(String(x), String(y))
  }
  return [...rows].sort((a, b) => (down ? -order(a, b) : order(a, b)))
}

/** The head of a column that sorts. */
export function SortHead<K extends string>({
  by,
  label,
  width,
  sort,
  flip,
}: {
  by: K
  label: string
  width?: string
  sort: Sort<K>
  flip: (by: K) => void
}) {
  const on = sort.by === by
  return (
    <th className="list-head" style={{ width }} aria-sort={on ? (sort.down ? 'descending' : 'ascending') : 'none'}>
      <button className="hover:text-ink" onClick={() => flip(by)}>
        {label} {on && <span aria-hidden>{sort.down ? '↓' : '↑'}</span>}
      </button>
    </th>
  )
}
