import type { ReactNode } from 'react'

/** A column: its name, and how wide it is unless it takes what is left. */
export type Column = readonly [name: string, width?: string]

/** A table with fixed columns. children are its bodies. */
export function Table({
  columns,
  children,
  className = '',
}: {
  columns: readonly Column[]
  children: ReactNode
  className?: string
}) {
  return (
    <table className={`table-fixed folds ${className}`}>
      <thead>
        <tr>
          {columns.map(([name, width]) => (
            <th key={name} className="list-head" style={{ width }}>
              {name}
            </th>
          ))}
        </tr>
      </thead>
      {children}
    </table>
  )
}
