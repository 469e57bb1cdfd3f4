import type { Schemas, View } from '../api/client'
import type { Asked } from './pageState'

/** Where the tray is while a work order for the site is open: the way to one, and to those of others. */
export function NoOrder({
  view,
  current,
  ask,
  take,
}: {
  view: View
  current?: Schemas['Head']
  ask: (asked: Asked) => void
  take: (id: number) => void
}) {
  const elsewhere = current?.state === 'open'
  const [open] = view.orders
  return (
    <div
      id="tray"
      data-place="tray"
      className={
        'print:hidden col-span-full bg-basalt text-on-basalt-2 flex flex-wrap items-center gap-x-4 gap-y-1.5 ' +
        'px-4 py-2 min-h-[56px] border-t border-basalt-line'
      }
    >
      <span>
        Shown as it stands at revision {view.site.revision}.{' '}
        {elsewhere ? `${current.name} is for another site. ` : open ? '' : 'Edits are kept in a work order.'}
        {open && (
          <>
            {open.by} has <b className="text-on-basalt">{open.name}</b> {open.title} open
            {view.orders.length > 1 && `, and ${view.orders.length - 1} more`}.
          </>
        )}
      </span>
      <span className="ml-auto flex flex-wrap gap-2">
        {open && (
          <button
            className="btn btn-dark"
            onClick={() => {
              take(open.id)
            }}
          >
            Go on with {open.name}
          </button>
        )}
        <button
          className={`btn ${elsewhere || open ? 'btn-dark' : 'btn-next'}`}
          onClick={() => {
            ask({ kind: 'order' })
          }}
        >
          Open a work order
        </button>
      </span>
    </div>
  )
}
