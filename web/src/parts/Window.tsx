import { Dialog } from 'radix-ui'
import { useRef, useState, type ReactNode } from 'react'
import { focusBack } from '../frame/places'

/** A form over the page. Escape closes it and so does a click beside it, which a form that is filled in asks about
 * first; the page behind keeps its place, and gets the keyboard focus back. */
export function Window({
  title,
  says,
  open,
  onClose,
  children,
  wide,
  filled = false,
}: {
  title: string
  says?: ReactNode
  open: boolean
  onClose: () => void
  children: ReactNode
  wide?: boolean | 'full'
  filled?: boolean
}) {
  const [asking, setAsking] = useState(false)
  const opener = useRef<Element>(null)
  const leave = () => {
    if (filled && !asking) {
      setAsking(true)
      return
    }
    setAsking(false)
    onClose()
  }
  return (
    <Dialog.Root open={open} onOpenChange={(now) => !now && leave()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-basalt/55 z-40" />
        <Dialog.Content
          aria-describedby={undefined}
          onOpenAutoFocus={() => {
            opener.current = document.activeElement
          }}
          onCloseAutoFocus={(e) => {
            e.preventDefault()
            focusBack(opener.current)
          }}
          onEscapeKeyDown={(e) => {
            // What is open within the window is what Escape closes.
            const within = e.target instanceof Element && e.target.closest('[data-closes]') !== null
            if (!asking && !within) return
            e.preventDefault()
            setAsking(false)
          }}
          onInteractOutside={(e) => {
            if (asking) e.preventDefault()
          }}
          className={
            'fixed z-50 left-1/2 top-[12vh] max-[480px]:top-2 -translate-x-1/2 w-[calc(100vw-32px)] ' +
            'max-[480px]:w-[calc(100vw-12px)] ' +
            `${wide === 'full' ? 'max-w-[1080px]' : wide ? 'max-w-[640px]' : 'max-w-[460px]'} max-h-[80vh] ` +
            'max-[480px]:max-h-[96vh] overflow-auto bg-sheet text-ink border border-ink-3 rounded-sm p-5'
          }
        >
          <Dialog.Title asChild>
            <h1>{title}</h1>
          </Dialog.Title>
          {says && <p className="mt-1 text-ink-2">{says}</p>}
          {children}
          {asking && (
            <div
              role="alert"
              className={
                'sticky -bottom-5 -mx-5 -mb-5 mt-3 bg-sand-t text-sand-ink border-t border-sand px-5 py-3 flex ' +
                'flex-wrap gap-2 items-center'
              }
            >
              <b className="mr-auto">Throw away what you typed?</b>
              <button
                type="button"
                className="btn"
                autoFocus
                onClick={() => {
                  setAsking(false)
                }}
              >
                Keep typing
              </button>
              <button type="button" className="btn" onClick={leave}>
                Discard
              </button>
            </div>
          )}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}
