import { Dialog } from 'radix-ui'
import type { ReactNode } from 'react'

/** A form over the page. Escape and the cross close it; the page behind keeps its place. */
export function Window({
  title,
  says,
  open,
  onClose,
  children,
  wide,
}: {
  title: string
  says?: ReactNode
  open: boolean
  onClose: () => void
  children: ReactNode
  wide?: boolean
}) {
  return (
    <Dialog.Root open={open} onOpenChange={(now) => !now && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-basalt/55 z-40" />
        <Dialog.Content
          aria-describedby={undefined}
          className={`fixed z-50 left-1/2 top-[12vh] -translate-x-1/2 w-[calc(100vw-32px)] ${wide ? 'max-w-[640px]' : 'max-w-[460px]'} max-h-[80vh] overflow-auto bg-sheet text-ink border border-ink-3 rounded-sm p-5`}
        >
          <Dialog.Title asChild>
            <h1>{title}</h1>
          </Dialog.Title>
          {says && <p className="mt-1 text-ink-2">{says}</p>}
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}
