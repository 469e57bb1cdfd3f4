import { useState, type ReactNode } from 'react'

/** An address, MAC, name or value that one click copies. */
export function Copy({ text, children, className = '' }: { text: string; children?: ReactNode; className?: string }) {
  const [copied, setCopied] = useState(false)
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(text)
      setCopied(true)
      setTimeout(() => setCopied(false), 1200)
    } catch {
      setCopied(false)
    }
  }
  return (
    <button
      type="button"
      title={copied ? 'Copied' : `Copy ${text}`}
      onClick={() => void copy()}
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
