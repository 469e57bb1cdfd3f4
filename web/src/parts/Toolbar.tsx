import type { ReactNode } from 'react'

/** What can be done with one thing, on lines of buttons. */
export function Toolbar({
  label,
  children,
  className = '',
}: {
  label?: string
  children: ReactNode
  className?: string
}) {
  return (
    <div role={label ? 'group' : undefined} aria-label={label} className={`flex flex-wrap gap-1.5 ${className}`}>
      {children}
    </div>
  )
}
