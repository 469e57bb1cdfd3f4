import { useEffect, useState, type ReactNode } from 'react'
import { DropdownMenu } from 'radix-ui'

type Props = {
  label: string
  /** What the one thing is that it tells; cut where there is no room, and whole on hover, focus and touch. */
  children: ReactNode
  buttons: ReactNode
  /** What went wrong, above the line until it is closed. */
  problem?: string
}

/** The tray: one line at the bottom, as high on every page, with what is told on the left and buttons on the right. */
export function TrayBar({ label, children, buttons, problem }: Props) {
  return (
    <footer
      aria-label={label}
      id="tray"
      data-place="tray"
      className={
        'tray print:hidden col-span-full relative bg-basalt text-[#dfe7e3] border-t border-basalt-line flex ' +
        'items-center gap-x-4 px-4 max-[641px]:px-2 max-[641px]:gap-x-2 h-[56px] max-[900px]:h-[48px] ' +
        'max-[480px]:h-[44px]'
      }
    >
      {problem && <TrayProblem key={problem} says={problem} />}
      <div className="flex items-center gap-x-4 max-[641px]:gap-x-2 min-w-0 flex-1 overflow-hidden whitespace-nowrap">
        {children}
      </div>
      <span className="flex gap-2 shrink-0">{buttons}</span>
    </footer>
  )
}

function TrayProblem({ says }: { says: string }) {
  const [open, setOpen] = useState(true)
  useEffect(() => {
    const close = (e: KeyboardEvent) => {
      if (e.key === 'Escape') setOpen(false)
    }
    addEventListener('keydown', close)
    return () => removeEventListener('keydown', close)
  }, [])
  if (!open) return null
  return (
    <div
      className={
        'absolute bottom-full inset-x-0 bg-basalt border-t border-basalt-line px-4 py-2 flex items-start gap-4 z-20'
      }
    >
      <span role="alert" className="text-[#ff9c86] flex-1">
        {says}
      </span>
      <button className="btn btn-dark !h-[26px]" onClick={() => setOpen(false)}>
        Close
      </button>
    </div>
  )
}

export type TrayOrder = { id: number; name: string; title: string; says: string; go: () => void }

/** The work orders that the tray does not tell of: one by its name, several behind their number. */
export function OtherOrders({ orders }: { orders: TrayOrder[] }) {
  const [one, ...more] = orders
  if (!one) return null
  if (more.length === 0)
    return (
      <button className="btn btn-dark" title={`${one.title}. ${one.says}`} onClick={one.go}>
        <span>
          <span className="max-[641px]:hidden">Go on with </span>
          {one.name}
        </span>
      </button>
    )
  return (
    <DropdownMenu.Root modal={false}>
      <DropdownMenu.Trigger className="btn btn-dark">
        <span>
          {orders.length}
          <span className="max-[641px]:hidden"> work</span> orders <span aria-hidden>▴</span>
        </span>
      </DropdownMenu.Trigger>
      <DropdownMenu.Content
        align="end"
        side="top"
        sideOffset={6}
        className="z-50 bg-sheet text-ink border border-ink-3 rounded-sm p-1 max-w-[min(420px,96vw)]"
      >
        {orders.map((o) => (
          <DropdownMenu.Item
            key={o.id}
            className="px-3 py-1.5 rounded-sm outline-none data-[highlighted]:bg-ground cursor-pointer"
            onSelect={o.go}
          >
            <b className="font-semibold">{o.name}</b> {o.title}
            <div className="text-[12px] text-ink-2">{o.says}</div>
          </DropdownMenu.Item>
        ))}
      </DropdownMenu.Content>
    </DropdownMenu.Root>
  )
}
