import type { ReactNode } from 'react'

/** Something that went wrong, in a sentence; nothing where nothing did. */
export function Alert({ children, className = '' }: { children?: ReactNode; className?: string }) {
  if (!children) return null
  return (
    <div role="alert" className={`border-l-3 border-cinnabar bg-cinnabar-t text-cinnabar-ink px-3 py-2 ${className}`}>
      {children}
    </div>
  )
}
