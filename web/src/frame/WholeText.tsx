import { useEffect, useState } from 'react'

type Shown = { text: string; left: number; top: number }

/** What is cut off for want of room is shown whole while the pointer or the keyboard focus is on it. */
export function WholeText() {
  const [shown, setShown] = useState<Shown>()
  useEffect(() => {
    const look = (e: Event) => {
      const on = e.target instanceof Element ? e.target : undefined
      const under = on?.closest<HTMLElement>('.list-cell, .truncate') ?? on?.querySelector<HTMLElement>('.truncate')
      // The keyboard focus is on a row, the pointer on one of its cells.
      const line = e.type === 'focusin' ? on?.closest('tr') : undefined
      const cells = line ? [...line.querySelectorAll<HTMLElement>('.list-cell')] : under ? [under] : []
      const cell = cells.find((c) => c.scrollWidth > c.clientWidth + 1)
      if (!cell) {
        setShown(undefined)
        return
      }
      const box = cell.getBoundingClientRect()
      setShown({ text: cell.title || cell.innerText, left: box.left, top: box.bottom + 2 })
    }
    const leave = () => {
      setShown(undefined)
    }
    document.addEventListener('focusin', look)
    document.addEventListener('pointerover', look)
    document.addEventListener('scroll', leave, true)
    return () => {
      document.removeEventListener('focusin', look)
      document.removeEventListener('pointerover', look)
      document.removeEventListener('scroll', leave, true)
    }
  }, [])
  if (!shown) return null
  return (
    <div
      aria-hidden
      style={{ left: Math.max(4, Math.min(shown.left, innerWidth - 320)), top: shown.top }}
      className={
        'fixed z-50 pointer-events-none max-w-[min(480px,92vw)] bg-sheet text-ink border border-ink-3 ' +
        'rounded-sm px-2 py-1 [overflow-wrap:anywhere] print:hidden'
      }
    >
      {shown.text}
    </div>
  )
}
