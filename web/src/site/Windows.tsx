import type { View } from '../api/client'
import { OpenOrder } from '../orders/OpenOrder'
import { FixAll } from './FixAll'
import { OptionForm } from './OptionForm'
import { PartForm } from './PartForm'
import { PasteForm } from './PasteForm'
import { TakeIn } from './TakeIn'
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
      {open?.kind === 'paste' && head && open.zone && (
        <PasteForm order={head.id} into={open.zone} save={save} onClose={close} />
      )}
      {open?.kind === 'paste' && head && !open.zone && view.network && (
        <PasteForm order={head.id} into={{ network: view.network }} save={save} onClose={close} />
      )}
      {open?.kind === 'fixAll' && head && (
        <FixAll rule={open.rule} order={head.id} change={page.change} onClose={close} />
      )}
      {open?.kind === 'takeIn' && head && <TakeIn order={head} onClose={close} />}
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
