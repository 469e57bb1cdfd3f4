import type { ReactNode } from 'react'
import { Link } from 'react-router'
import { usePageTitle } from '../frame/usePageTitle'

/** A page, or a part inside of one, with nothing on it says the first step and offers it. */
export function Empty({
  title,
  says,
  to,
  first,
  inside,
  children,
}: {
  title: string
  says: string
  to?: string
  first?: string
  /** It is part of a page that has a heading of its own. */
  inside?: boolean
  children?: ReactNode
}) {
  usePageTitle(inside ? undefined : title)
  return (
    <div className="p-8 max-w-[520px]">
      {inside ? <h2 className="!text-ink !text-[20px]">{title}</h2> : <h1>{title}</h1>}
      <p className="mt-2 text-ink-2">{says}</p>
      {to && (
        <Link className="btn mt-4" to={to}>
          {first}
        </Link>
      )}
      {children && <div className="mt-4 flex flex-wrap gap-2">{children}</div>}
    </div>
  )
}
