import type { ReactNode } from 'react'

type Column = { name: string; width?: string }

/** A table with a head that stays while its rows scroll. */
export function Table({
  columns,
  children,
  className = '',
}: {
  columns: Column[]
  children: ReactNode
  className?: string
}) {
  return (
    <table className={`table-fixed ${className}`}>
      <thead>
        <tr>
          {columns.map((c) => (
            <th key={c.name} className="list-head" style={{ width: c.width }}>
              {c.name}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>{children}</tbody>
    </table>
  )
}
