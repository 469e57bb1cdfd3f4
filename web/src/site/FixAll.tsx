import { useQuery } from '@tanstack/react-query'
import { api, call, type Change } from '../api/client'
import { Window } from '../parts/Window'

/** What the fixes of all findings of one rule would do, before they are done. */
export function FixAll({
  rule,
  order,
  change,
  onClose,
}: {
  rule: string
  order: number
  change: (c: Change) => void
  onClose: () => void
}) {
  const { data, error } = useQuery({
    queryKey: ['fixes', order, rule],
    gcTime: 0,
    queryFn: () => call(api.GET('/api/orders/{order}/fixes', { params: { path: { order }, query: { rule } } })),
  })
  const ready = data?.fixes.filter((f) => f.fix) ?? []
  return (
    <Window
      title="Fix all of this kind"
      says="Each is worked out in the draft the one before leaves. Together they are one edit to undo."
      open
      onClose={onClose}
      wide
    >
      {error && (
        <div role="alert" className="mt-3 text-cinnabar-ink">
          {error.message}
        </div>
      )}
      <ol className="mt-3 grid gap-2 max-h-[50vh] overflow-auto relative" tabIndex={0} aria-label="The fixes">
        {data?.fixes.map((f) => (
          <li key={f.finding} className="border-l-3 border-seam pl-2.5">
            <b>{f.title}</b>
            <div className={f.fix ? '' : 'text-ink-3'}>
              {f.fix ? `${f.fix}: ` : ''}
              <span className="text-ink-2">{f.says}</span>
            </div>
          </li>
        ))}
      </ol>
      <div className="flex gap-2 justify-end mt-4">
        <button className="btn" onClick={onClose}>
          Cancel
        </button>
        <button
          className="btn btn-next"
          disabled={ready.length === 0}
          onClick={() => {
            change({ fixAll: rule })
            onClose()
          }}
        >
          Fix {ready.length}
        </button>
      </div>
    </Window>
  )
}
