import { useQueryClient } from '@tanstack/react-query'
import { Link } from 'react-router'
import { problemOf, type Finding, type Schemas } from '../api/client'
import { useDraftEdit } from '../api/queries'
import { Alert } from '../parts/Alert'
import { announce } from '../parts/announce'
import { FindingCard } from '../parts/FindingCard'

const nothing = () => undefined
const nowhere = {}

/** Findings that a draft brings in, each with its fix and the way to what it is about. */
export function DraftFindings({
  order,
  head,
  findings,
  onGo,
}: {
  order: number
  head: Schemas['Head']
  findings: Finding[]
  /** Somebody goes to the site. */
  onGo?: () => void
}) {
  const edit = useDraftEdit(order, nowhere, nothing)
  const client = useQueryClient()
  const fix = (f: Finding, other: boolean) => {
    const onSuccess = () => {
      announce(`Fixed: ${f.title}`)
      void client.invalidateQueries({ queryKey: ['order', order] })
    }
    edit.mutate({ head, change: { fix: f.id, other: other || undefined } }, { onSuccess })
  }
  return (
    <>
      <Alert className="mt-2">{edit.error && problemOf(edit.error).message}</Alert>
      {findings.map((f) => (
        <FindingCard
          key={f.id}
          finding={f}
          busy={edit.isPending || head.state !== 'open'}
          at={{ site: head.site, order }}
          onFix={(other) => {
            fix(f, other)
          }}
        >
          <Link
            className="inline-block py-1 hover:underline"
            to={`/sites/${head.site}?finding=${encodeURIComponent(f.id)}`}
            onClick={onGo}
          >
            Look at it
          </Link>
        </FindingCard>
      ))}
    </>
  )
}
