import { useQueryClient } from '@tanstack/react-query'
import { DropdownMenu } from 'radix-ui'
import { Suspense, useState } from 'react'
import { NavLink, Outlet, useLocation, useNavigate } from 'react-router'
import { api, call, type Schemas } from '../api/client'
import { useAway } from '../api/live'
import { Loading } from '../parts/Loading'
import { useNow } from '../parts/useNow'
import { When } from '../parts/When'
import { Announcer } from './Announcer'
import { Find } from './Find'
import { KeyHelp } from './KeyHelp'
import { SkipLinks } from './SkipLinks'
import { Tray } from './Tray'
import { WholeText } from './WholeText'
import { focusPlace, places as parts } from './places'
import { applyTheme, theme, type Theme } from './theme'
import { useKeptFocus } from './useKeptFocus'
import { useKeys } from './useKeys'

const places = [
  ['/rounds', 'Rounds', 'r'],
  ['/sites', 'Sites', 's'],
  ['/orders', 'Work orders', 'o'],
  ['/standards', 'Standards', 't'],
] as const

/** What the place at a path is called. */
const placeAt = (path: string) => places.find(([to]) => path.startsWith(to))?.[1] ?? 'Lithos'

export function Frame({ technician, held }: { technician: Schemas['Technician']; held?: Schemas['Hold'] }) {
  const navigate = useNavigate()
  const { pathname } = useLocation()
  const [help, setHelp] = useState(false)
  useKeys({
    ...Object.fromEntries(places.map(([to, , key]) => [`g ${key}`, () => void navigate(to)])),
    ...Object.fromEntries(
      parts.flatMap(([place, , key]) => (key && place !== 'inspector' ? [[key, () => focusPlace(place)]] : [])),
    ),
    '?': () => setHelp(true),
  })
  useKeptFocus()
  return (
    <div className="h-full grid grid-rows-[48px_minmax(0,1fr)_auto] print:block">
      <SkipLinks />
      <header
        className={
          'bg-basalt text-on-basalt flex items-center gap-4 max-[641px]:gap-2 ' + 'px-4 max-[641px]:px-2 print:hidden'
        }
      >
        <NavLink
          to="/rounds"
          className="flex items-center gap-2 font-[750] text-[17px] tracking-tight"
          aria-label="Lithos, Rounds"
        >
          <img src="/mark.svg" width="24" height="22" alt="" />
          <span className="max-[700px]:hidden">Lithos</span>
        </NavLink>
        <nav aria-label="Places" className="flex gap-1 h-full max-[641px]:hidden">
          {places.map(([to, name]) => (
            <NavLink
              key={to}
              to={to}
              className={({ isActive }) =>
                'px-2.5 inline-flex items-center border-b-2 border-t-2 border-t-transparent ' +
                (isActive ? 'text-white border-b-lichen' : 'text-on-basalt-2 border-b-transparent hover:text-white')
              }
            >
              {name}
            </NavLink>
          ))}
        </nav>
        <PlacesMenu />
        <Find />
        <TechnicianMenu technician={technician} onHelp={() => setHelp(true)} />
      </header>
      <main
        id="main"
        tabIndex={-1}
        data-place="main"
        className={
          'min-h-0 overflow-auto relative grid grid-rows-[auto_auto_minmax(0,1fr)] print:block ' +
          'print:overflow-visible'
        }
      >
        <Away />
        {held ? (
          <div role="status" className="bg-sand-t text-sand-ink border-b border-sand px-4 py-2">
            <b>Pushes and readings of devices are held</b>, since <When at={held.since} />. {held.because}. Whoever runs
            Lithos lets them go on with <span className="mono">lithos release</span>.
          </div>
        ) : (
          <span />
        )}
        <div className="min-h-0 overflow-auto relative print:overflow-visible">
          <Suspense fallback={<Loading of={placeAt(pathname)} />}>
            <Outlet />
          </Suspense>
        </div>
      </main>
      <div className="relative min-w-0 print:hidden">
        <Announcer />
        <Tray />
      </div>
      <WholeText />
      <KeyHelp open={help} onClose={() => setHelp(false)} />
    </div>
  )
}

const patience = 3_000 // ms without live events that nobody need know of

/** Says that what others do is not shown meanwhile. */
function Away() {
  const since = useAway()
  const now = useNow(1_000)
  if (!since || now - since < patience) return <span />
  return (
    <div role="status" className="bg-sand-t text-sand-ink border-b border-sand px-4 py-2">
      <b>This page is not live</b>: Lithos has not answered since <When at={new Date(since).toISOString()} clock />.
      What is shown may be old. It is tried again by itself.
    </div>
  )
}

/** The places in a menu, where the bar is too narrow for them. */
function PlacesMenu() {
  const navigate = useNavigate()
  const { pathname } = useLocation()
  const here = places.find(([to]) => pathname.startsWith(to))
  return (
    <DropdownMenu.Root modal={false}>
      <DropdownMenu.Trigger
        className={'min-[641px]:hidden h-8 px-2 border border-basalt-line ' + 'rounded-sm whitespace-nowrap'}
      >
        {here?.[1] ?? 'Places'} <span aria-hidden>▾</span>
      </DropdownMenu.Trigger>
      <DropdownMenu.Content
        align="start"
        sideOffset={6}
        className="z-50 bg-sheet text-ink border border-ink-3 rounded-sm p-1 min-w-[160px]"
      >
        {places.map(([to, name]) => (
          <DropdownMenu.Item
            key={to}
            className="px-3 py-2 rounded-sm outline-none data-[highlighted]:bg-ground cursor-pointer"
            onSelect={() => void navigate(to)}
          >
            {name}
          </DropdownMenu.Item>
        ))}
      </DropdownMenu.Content>
    </DropdownMenu.Root>
  )
}

function TechnicianMenu({ technician, onHelp }: { technician: Schemas['Technician']; onHelp: () => void }) {
  const client = useQueryClient()
  const [chosen, setChosen] = useState(theme)
  const signOut = async () => {
    await call(api.DELETE('/api/session'))
    client.clear()
    location.assign('/')
  }
  const item =
    'px-3 py-1.5 rounded-sm outline-none data-[highlighted]:bg-ground cursor-pointer flex items-center ' +
    'justify-between gap-6'
  return (
    <DropdownMenu.Root modal={false}>
      <DropdownMenu.Trigger
        aria-label={`${technician.initials}, ${technician.fullName}: menu`}
        className="w-8 h-8 rounded-full bg-[#3b4a46] text-white text-xs grid place-items-center shrink-0"
      >
        {technician.initials}
      </DropdownMenu.Trigger>
      <DropdownMenu.Content
        align="end"
        sideOffset={6}
        className="z-50 bg-sheet text-ink border border-ink-3 rounded-sm p-1 min-w-[200px]"
      >
        <DropdownMenu.Label className="px-3 py-1.5 text-ink-2 text-[12.5px]">{technician.fullName}</DropdownMenu.Label>
        <DropdownMenu.RadioGroup
          value={chosen}
          onValueChange={(v) => {
            applyTheme(v as Theme)
            setChosen(v as Theme)
          }}
        >
          {(['system', 'light', 'dark'] as const).map((t) => (
            <DropdownMenu.RadioItem key={t} value={t} className={item}>
              {{ system: "The system's colours", light: 'Light colours', dark: 'Dark colours' }[t]}
              <DropdownMenu.ItemIndicator>✓</DropdownMenu.ItemIndicator>
            </DropdownMenu.RadioItem>
          ))}
        </DropdownMenu.RadioGroup>
        <DropdownMenu.Separator className="h-px bg-seam my-1" />
        <DropdownMenu.Item className={item} onSelect={onHelp}>
          All keys <kbd>?</kbd>
        </DropdownMenu.Item>
        <DropdownMenu.Item className={item} onSelect={() => void signOut()}>
          Sign out
        </DropdownMenu.Item>
      </DropdownMenu.Content>
    </DropdownMenu.Root>
  )
}
