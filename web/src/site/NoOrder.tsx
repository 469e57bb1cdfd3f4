import { useNavigate } from 'react-router'
import type { Schemas, View } from '../api/client'
import { OtherOrders, TrayBar, type TrayOrder } from '../frame/TrayBar'
import { endedSays, TakeUp } from '../frame/Tray'
import type { Asked } from './pageState'

type Props = {
  view: View
  current?: Schemas['Head']
  ask: (asked: Asked) => void
  take: (id: number) => void
}

/** The tray while no work order for the site is open: it is shown as it stands, and how to change it. */
export function NoOrder({ view, current, ask, take }: Props) {
  const navigate = useNavigate()
  const here: TrayOrder[] = view.orders.map((o) => ({
    id: o.id,
    name: o.name,
    title: o.title,
    says: `Open at this site, by ${o.by}`,
    go: () => take(o.id),
  }))
  const working = current?.state === 'open' || current?.state === 'pushing'
  const elsewhere: TrayOrder[] =
    working && !here.some((o) => o.id === current.id)
      ? [
          {
            id: current.id,
            name: current.name,
            title: current.title,
            says: 'For another site',
            go: () => void navigate(`/orders/${current.id}`),
          },
        ]
      : []
  const others = [...here, ...elsewhere]
  const ended = current && !working && current.site === view.site.code ? current : undefined
  return (
    <TrayBar
      label="No work order"
      buttons={
        <>
          {ended && <TakeUp head={ended} />}
          <OtherOrders orders={others} />
          <button
            className={`btn ${others.length > 0 ? 'btn-dark' : 'btn-next'}`}
            onClick={() => {
              ask({ kind: 'order' })
            }}
          >
            Open a work order
          </button>
        </>
      }
    >
      <span className="truncate" role={ended ? 'status' : undefined} title={ended && endedSays(ended)}>
        {ended ? endedSays(ended) : `Shown as it stands at revision ${view.site.revision}.`}
      </span>
    </TrayBar>
  )
}
