import { useQuery } from '@tanstack/react-query'
import type { ReactNode } from 'react'
import { Link, useParams } from 'react-router'
import { api, call, type Schemas } from '../api/client'
import { usePageTitle } from '../frame/usePageTitle'
import { Empty } from '../parts/Empty'
import { Loading } from '../parts/Loading'

/** A site on one sheet, to print for its cupboard door. */
export function SheetPage() {
  const { code = '' } = useParams()
  const card = useQuery({
    queryKey: ['view', code, 'card'],
    queryFn: () => call(api.GET('/api/sites/{site}/card', { params: { path: { site: code } } })),
  })
  usePageTitle('Sheet', card.data?.title)
  if (card.error)
    return <Empty title="The sheet cannot be shown" says={card.error.message} to="/rounds" first="Go to Rounds" />
  if (!card.data) return <Loading of="Sheet" />
  const p = card.data
  const file = `/api/sites/${encodeURIComponent(code)}/card/file`
  return (
    <div className="bg-sheet min-h-full px-5 py-4">
      <div className="max-w-[1000px]">
        <div className="flex flex-wrap items-baseline gap-2 print:hidden mb-3">
          <Link className="btn" to={`/sites/${code}`}>
            Back to the site
          </Link>
          <span className="ml-auto flex gap-2">
            <a className="btn" href={`${file}?as=markdown`} download>
              As Markdown
            </a>
            <a className="btn" href={`${file}?as=pdf`} download>
              As PDF
            </a>
            <button className="btn btn-next" onClick={() => window.print()}>
              Print it
            </button>
          </span>
        </div>
        <h1>{p.title}</h1>
        <p className="text-ink-2">{p.under}</p>
        {p.blocks.map((b, n) => (
          <Block key={n} of={b} />
        ))}
      </div>
    </div>
  )
}

/** Addresses, MACs and numbers, which are set in letters of one width. */
const written = /^(?=.*\d)[\da-f.,:/ –-]+$/i

function Block({ of: b }: { of: Schemas['Block'] }) {
  const table = (rows: string[][], head?: string[] | null): ReactNode => (
    <div className="overflow-x-auto">
      <table className="mt-1">
        {head && (
          <thead>
            <tr>
              {head.map((h) => (
                <th key={h} className="list-head">
                  {h}
                </th>
              ))}
            </tr>
          </thead>
        )}
        <tbody>
          {rows.map((r, n) => (
            <tr key={n} className="break-inside-avoid">
              {r.map((cell, k) => (
                <td key={k} className={`list-cell !whitespace-normal !h-auto py-1 ${written.test(cell) ? 'mono' : ''}`}>
                  {cell}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
  return (
    <section className="mt-4" aria-label={b.heading ?? 'The site'}>
      {b.heading && <h2 className="!text-[14px] !text-ink">{b.heading}</h2>}
      {b.facts && table(b.facts)}
      {b.text && <p className="mt-1.5">{b.text}</p>}
      {b.list && (
        <ul className="mt-1">
          {b.list.map((l) => (
            <li key={l}>{l}</li>
          ))}
        </ul>
      )}
      {b.rows && table(b.rows, b.head)}
    </section>
  )
}
