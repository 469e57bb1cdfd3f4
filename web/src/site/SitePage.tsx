import { useState } from 'react'
import { useParams } from 'react-router'
import { Alert } from '../parts/Alert'
import { Beside } from './Beside'
import { FirstSteps } from './FirstSteps'
import { Empty } from '../parts/Empty'
import { Ruler } from '../ruler/Ruler'
import { Strip } from '../ruler/Strip'
import { Section } from '../section/Section'
import { GoneNote } from './GoneNote'
import { Inspector } from './Inspector'
import { NetworkHead } from './NetworkHead'
import { NetworkPicker } from './NetworkPicker'
import { NetworkTabs } from './NetworkTabs'
import { NoOrder } from './NoOrder'
import { useSitePage } from './useSitePage'
import { Windows } from './Windows'
import { NamesFace } from '../names/NamesFace'
import { Loading } from '../parts/Loading'

/** The tabs on which the ruler gives way. */
const otherTabs = ['options', 'observed', 'try', 'forecast', 'devices']

/** One site: the Section, the ruler of a network, its list, and the inspector. */
export function SitePage() {
  const { code = '' } = useParams()
  const page = useSitePage(code)
  const [scroller, setScroller] = useState<HTMLDivElement | null>(null)
  const { view, look, go, state, dispatch, ask } = page
  if (page.error && !view)
    return <Empty title="The site cannot be shown" says={page.error.message} to="/rounds" first="Go to Rounds" />
  if (view?.site.code !== code) return <Loading of={`Site ${code}`} />
  if (page.face === 'names') return <NamesFace page={page} view={view} />
  const { network } = view
  const places = {
    view,
    selected: look.select === `site:${view.site.id}`,
    onSite: () => {
      page.select(`site:${view.site.id}`)
    },
    onNetwork: (id: string) => {
      go({ network: id })
    },
    onFace: (face: string) => {
      go({ face })
    },
    onAdd: (prefix = '') => {
      ask({ kind: 'form', form: { kind: 'network', values: prefix ? { prefix } : {} } })
    },
  }
  return (
    <div
      className={
        'h-full grid grid-rows-[minmax(0,1fr)_auto] grid-cols-[238px_minmax(0,1fr)_280px] ' +
        'max-[1000px]:grid-cols-1 max-[1000px]:grid-rows-[auto_minmax(0,1fr)_auto] print:block'
      }
    >
      <NetworkPicker {...places} />
      <div className="max-[1000px]:hidden min-h-0 grid">
        <Section {...places} />
      </div>
      <div
        ref={setScroller}
        className={
          'bg-sheet min-w-0 overflow-auto [overflow-anchor:none] px-4.5 max-[480px]:px-2.5 py-3.5 relative ' +
          'print:overflow-visible'
        }
      >
        <GoneNote code={code} look={look} view={view} go={go} />
        {network ? (
          <>
            <NetworkHead network={network} />
            <Beside view={view} onOpen={page.inspect} />
            <Alert className="mt-2">{state.says}</Alert>
            <div className="mt-2.5">
              {otherTabs.includes(page.tab) ? (
                <Strip ruler={network.ruler} onOpen={() => go({ tab: 'addresses' })} />
              ) : (
                <Ruler
                  ruler={network.ruler}
                  selected={look.select ?? ''}
                  canExclude={network.pools.length > 0}
                  actions={page.ruler}
                />
              )}
            </div>
            <NetworkTabs page={page} view={view} network={network} scroller={scroller} />
          </>
        ) : (
          <FirstSteps page={page} view={view} />
        )}
      </div>
      <div
        className={
          'min-h-0 grid max-[1000px]:fixed max-[1000px]:inset-y-[48px] max-[1000px]:right-0 ' +
          `max-[1000px]:w-[min(340px,100vw)] max-[1000px]:z-30 ${state.sheet ? '' : 'max-[1000px]:hidden'}`
        }
      >
        <Inspector
          view={view}
          busy={page.busy}
          change={page.change}
          ask={ask}
          onSelect={page.select}
          onClose={
            state.sheet
              ? () => {
                  dispatch({ do: 'sheet', open: false })
                }
              : undefined
          }
        />
      </div>
      {!page.head && !page.arriving && <NoOrder view={view} current={page.current} ask={ask} take={page.take} />}
      <Windows page={page} view={view} />
    </div>
  )
}
