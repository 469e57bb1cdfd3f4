import type { Schemas, View } from '../api/client'
import { OpenOrder } from '../orders/OpenOrder'
import { FixAll } from './FixAll'
import { OptionForm } from './OptionForm'
import { PartForm } from './PartForm'
import { PasteForm } from './PasteForm'
import { Import } from './Import'
import type { Page } from './useSitePage'

/** The window that is open over a site's page, if any. */
export function Windows({ page, view }: { page: Page; view: View }) {
  const { state, dispatch, save, head } = page
  const close = () => {
    dispatch({ do: 'close' })
  }
  const { open } = state
  return (
    <>
      {open?.kind === 'form' && <PartForm opens={open.form} view={view} save={save} onClose={close} />}
      {open?.kind === 'option' && (
        <OptionForm
          site={page.code}
          look={page.look}
          own={view.ownOptions}
          {...open.option}
          version={head?.version}
          save={save}
          onClose={close}
        />
      )}
      {open && head && <OfOrder open={open} head={head} page={page} view={view} onClose={close} />}
      <OpenOrder
        open={state.waiting !== undefined && !head && !page.arriving}
        site={page.code}
        siteName={view.site.name}
        orders={view.orders}
        onClose={() => {
          dispatch({ do: 'give up' })
        }}
        onOpened={page.take}
      />
    </>
  )
}

type Of = {
  open: NonNullable<Page['state']['open']>
  head: Schemas['Head']
  page: Page
  view: View
  onClose: () => void
}

/** The window in which several parts of an order's draft are changed at once. */
function OfOrder({ open, head, page, view, onClose }: Of) {
  switch (open.kind) {
    case 'paste': {
      const into = open.zone ?? (view.network && { network: view.network })
      return into ? <PasteForm order={head.id} into={into} save={page.save} onClose={onClose} /> : null
    }
    case 'fixAll':
      return <FixAll rule={open.rule} order={head.id} change={page.change} onClose={onClose} />
    case 'takeIn':
      return <Import order={head} onClose={onClose} />
    default:
      return null
  }
}
