import { useState, type ReactNode } from 'react'
import { announce } from './announce'

/** Copies a text; copied for a moment afterwards. copy tells whether the browser allowed it. */
function useCopy(text: string) {
  const [copied, setCopied] = useState(false)
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(text)
    } catch {
      setCopied(false)
      return false
    }
    setCopied(true)
    setTimeout(() => {
      setCopied(false)
    }, 1200)
    return true
  }
  return { copied, copy }
}

/** The word that copies what stands before it, on the row that has the pointer or the keyboard focus. */
export function CopyWord({ text, what, stop }: { text: string; what: string; stop: boolean }) {
  const { copied, copy } = useCopy(text)
  const say = async () => {
    const done = await copy()
    announce(
      done ? `Copied ${text}` : 'The browser does not let a page copy here; mark the text and copy it with Ctrl C',
    )
  }
  return (
    <button
      type="button"
      aria-label={`Copy ${what} ${text}`}
      tabIndex={stop ? 0 : -1}
      className={
        'absolute right-0 inset-y-0 px-1.5 bg-slab font-sans text-[11.5px] text-ink-2 underline ' +
        'decoration-dotted print:hidden'
      }
      onClick={(e) => {
        e.stopPropagation()
        void say()
      }}
    >
      {copied ? 'copied' : 'copy'}
    </button>
  )
}

/** An address, MAC, name or value that one click copies. */
export function Copy({
  text,
  children,
  row,
  className = '',
}: {
  text: string
  children?: ReactNode
  /** It is what a line of a list is reached by. */
  row?: boolean
  className?: string
}) {
  const { copied, copy } = useCopy(text)
  return (
    <button
      type="button"
      data-row={row || undefined}
      title={copied ? 'Copied' : `Copy ${text}`}
      onClick={(e) => {
        e.stopPropagation()
        void copy()
      }}
      className={`text-left hover:underline decoration-dotted underline-offset-3 [overflow-wrap:anywhere] ${className}`}
    >
      {children ?? text}
      <span aria-live="polite" className="sr-only">
        {copied ? 'Copied' : ''}
      </span>
      {copied && (
        <span aria-hidden className="ml-2 text-malachite font-sans text-xs">
          copied
        </span>
      )}
    </button>
  )
}
