import type { View } from '../api/client'
import { Empty } from '../parts/Empty'
import { Tabs } from '../parts/Tabs'
import { DevicesTab } from './DevicesTab'
import type { Page } from './useSitePage'

/** A site without networks: what to begin with, and the devices there are. */
export function FirstSteps({ page, view }: { page: Page; view: View }) {
  const { ask } = page
  const add = (kind: string) => () => {
    ask({ kind: 'form', form: { kind, values: {} } })
  }
  const next = view.devices.length > 0
  return (
    <>
      <Empty
        title="This site has no network yet"
        says={
          next
            ? "Add the first network; Lithos proposes a prefix from the site's block. Its pool and " +
              'reservations come next.'
            : "Record the site's first device, then its first network; Lithos proposes a prefix from the site's block."
        }
      >
        <button className={`btn ${next ? '' : 'btn-next'}`} onClick={add('device')}>
          {next ? 'Add a device' : 'Add the first device'}
        </button>
        <button className={`btn ${next ? 'btn-next' : ''}`} onClick={add('network')}>
          Add the first network
        </button>
        <button className="btn" onClick={() => ask({ kind: 'takeIn' })}>
          Import a list or a site file
        </button>
      </Empty>
      <Tabs
        label="Of this site"
        chosen="devices"
        onChoose={() => undefined}
        tabs={[
          {
            id: 'devices',
            name: 'Devices',
            panel: (
              <DevicesTab
                view={view}
                site={page.code}
                selected={page.look.select ?? ''}
                onSelect={page.select}
                ask={ask}
              />
            ),
          },
        ]}
      />
    </>
  )
}
