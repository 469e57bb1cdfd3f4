import { useVirtualizer } from '@tanstack/react-virtual'
import { useLayoutEffect, useRef, useState, type KeyboardEvent, type ReactNode } from 'react'
import { ListKeys } from './roving'

/** The rows of a table that are in view: a list of any length draws only these. */
export function useLongList(scroller: HTMLElement | null, count: number) {
  const body = useRef<HTMLTableSectionElement>(null)
  const keys = useRef(new ListKeys())
  const [above, setAbove] = useState(0)
  const virtual = useVirtualizer({
    count,
    getScrollElement: () => scroller,
    estimateSize: () => 29,
    overscan: 4,
    scrollMargin: above,
  })
  // What stands above the rows changes with what is listed; measured after each drawing.
  // eslint-disable-next-line react-hooks/exhaustive-deps -- the same number again draws nothing
  useLayoutEffect(() => {
    if (!scroller || !body.current || virtual.isScrolling) return
    setAbove(
      Math.round(body.current.getBoundingClientRect().top - scroller.getBoundingClientRect().top + scroller.scrollTop),
    )
  })
  const items = virtual.getVirtualItems()
  const [top, bottom] = [items[0], items.at(-1)]
  return {
    body,
    keys,
    byHand: () => {
      keys.current.byHand = true
    },
    virtual,
    items,
    before: top ? top.start - above : 0,
    after: bottom ? virtual.getTotalSize() - (bottom.end - above) : 0,
  }
}

/** The body of the table, as high as if every row were drawn. */
export function LongBody({
  list,
  columns,
  onKeyDown,
  children,
}: {
  list: ReturnType<typeof useLongList>
  columns: number
  onKeyDown: (e: KeyboardEvent) => void
  children: ReactNode
}) {
  const { body, byHand, before, after } = list
  return (
    <tbody ref={body} id="list" data-place="list" onKeyDown={onKeyDown} onPointerDown={byHand}>
      {before > 0 && <Spacer columns={columns} height={before} />}
      {children}
      {after > 0 && <Spacer columns={columns} height={after} />}
    </tbody>
  )
}

function Spacer({ columns, height }: { columns: number; height: number }) {
  return (
    <tr aria-hidden>
      <td colSpan={columns} style={{ height }} />
    </tr>
  )
}
