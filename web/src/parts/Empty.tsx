import { Link } from 'react-router'

/** A page or section with nothing on it says the first step and offers it. */
export function Empty({ title, says, to, first }: { title: string; says: string; to?: string; first?: string }) {
  return (
    <div className="p-8 max-w-[520px]">
      <h1>{title}</h1>
      <p className="mt-2 text-ink-2">{says}</p>
      {to && (
        <Link className="btn mt-4" to={to}>
          {first}
        </Link>
      )}
    </div>
  )
}
