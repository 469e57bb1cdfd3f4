import type { ReactNode } from 'react'

/** Says what something does beside what it is for, before it is done, with the answers to choose from. */
export function AskFirst({
  says,
  className = '',
  children,
}: {
  says: string
  className?: string
  children: ReactNode
}) {
  return (
    <div role="alert" className={`border-l-3 border-sand bg-sand-t px-2.5 py-2 text-[13px] ${className}`}>
      <p>{says}</p>
      <span className="flex flex-wrap gap-1.5 mt-1.5">{children}</span>
    </div>
  )
}
