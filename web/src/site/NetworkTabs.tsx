import type { Schemas, View } from '../api/client'
import { Tabs } from '../parts/Tabs'
import { DevicesTab } from './DevicesTab'
import { ForecastTab } from './ForecastTab'
import { OptionsTab } from './OptionsTab'
import { OwnersList } from './OwnersList'
import { ObservedTab } from './ObservedTab'
import { TryTab } from './TryTab'
import type { Page } from './useSitePage'

type Props = { page: Page; view: View; network: Schemas['NetworkView']; scroller: HTMLElement | null }

/** What there is to know and to try of one network, a tab each. */
export function NetworkTabs({ page, view, network, scroller }: Props) {
  const { code, look, ask, select, go, tab } = page
  const selected = look.select ?? ''
  const here = { view, network, site: code }
  const tabs = [
    {
      id: 'addresses',
      name: 'Addresses',
      panel: (
        <OwnersList
          key={network.id}
          rows={network.rows}
          selected={selected}
          zone={view.site.timeZone}
          scroller={scroller}
          onSelect={select}
          onPaste={() => {
            ask({ kind: 'paste' })
          }}
          onFirstPool={
            network.pools.length > 0
              ? undefined
              : () => {
                  ask({ kind: 'form', form: { kind: 'pool', values: {} } })
                }
          }
        />
      ),
    },
    { id: 'options', name: 'Options', panel: <OptionsTab key={network.id} {...here} onSelect={select} ask={ask} /> },
    {
      id: 'observed',
      name: 'Observed',
      panel: <ObservedTab {...here} busy={page.busy} ask={ask} change={page.change} />,
    },
    { id: 'try', name: 'Try a client', panel: <TryTab key={`${network.id} ${page.head?.id}`} {...here} /> },
    { id: 'forecast', name: 'Forecast', panel: <ForecastTab key={network.id} {...here} /> },
    { id: 'devices', name: 'Devices', panel: <DevicesTab {...here} selected={selected} onSelect={select} ask={ask} /> },
  ]
  return (
    <Tabs
      label="Views"
      tabs={tabs}
      chosen={tabs.some((t) => t.id === tab) ? tab : 'addresses'}
      onChoose={(id) => {
        go({ tab: id })
      }}
    />
  )
}
