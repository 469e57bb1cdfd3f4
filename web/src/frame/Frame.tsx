import { useQueryClient } from '@tanstack/react-query'
import { DropdownMenu } from 'radix-ui'
import { Suspense, useState } from 'react'
import { NavLink, Outlet, useNavigate } from 'react-router'
import { api, call, type Schemas } from '../api/client'
import { When } from '../parts/When'
import { Find } from './Find'
import { KeyHelp } from './KeyHelp'
import { Tray } from './Tray'
import { applyTheme, theme, type Theme } from './theme'
import { useKeys } from './useKeys'

const places = [
  ['/rounds', 'Rounds', 'r'],
  ['/sites', 'Sites', 's'],
  ['/orders', 'Work orders', 'o'],
  ['/standards', 'Standards', 't'],
] as const

export function Frame({ technician, held }: { technician: Schemas['Technician']; held?: Schemas['Held'] }) {
  const navigate = useNavigate()
  const [help, setHelp] = useState(false)
  useKeys({
    ...Object.fromEntries(places.map(([to, , key]) => [`g ${key}`, () => void navigate(to)])),
    '?': () => setHelp(true),
  })
  return (
    <div className="h-full grid grid-rows-[48px_minmax(0,1fr)_auto]">
      <header className="bg-basalt text-on-basalt flex items-center gap-4 px-4">
        <NavLink
          to="/rounds"
          className="flex items-center gap-2 font-[750] text-[17px] tracking-tight"
          aria-label="Lithos, Rounds"
        >
          <img src="/mark.svg" width="24" height="22" alt="" />
          <span className="max-[700px]:hidden">Lithos</span>
        </NavLink>
        <nav aria-label="Places" className="flex gap-1 h-full">
          {places.map(([to, name]) => (
            <NavLink
              key={to}
              to={to}
              className={({ isActive }) =>
                `px-2.5 inline-flex items-center border-b-2 border-t-2 border-t-transparent ${isActive ? 'text-white border-b-lichen' : 'text-on-basalt-2 border-b-transparent hover:text-white'}`
              }
            >
              {name}
            </NavLink>
          ))}
        </nav>
        <Find />
        <TechnicianMenu technician={technician} onHelp={() => setHelp(true)} />
      </header>
      <main className="min-h-0 overflow-auto relative grid grid-rows-[auto_minmax(0,1fr)]">
        {held ? (
          <div role="status" className="bg-sand-t text-sand-ink border-b border-sand px-4 py-2">
            <b>Pushes and readings of devices are held</b>, since <When at={held.since} />. {held.because}. Whoever runs
            Lithos lets them go on with <span className="mono">lithos release</span>.
          </div>
        ) : (
          <span />
        )}
        <div className="min-h-0 overflow-auto">
          <Suspense fallback={null}>
            <Outlet />
          </Suspense>
        </div>
      </main>
      <Tray />
      <KeyHelp open={help} onClose={() => setHelp(false)} />
    </div>
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
    'px-3 py-1.5 rounded-sm outline-none data-[highlighted]:bg-ground cursor-pointer flex items-center justify-between gap-6'
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        aria-label={`${technician.initials}, ${technician.fullName}: menu`}
        className="w-8 h-8 rounded-full bg-[#3b4a46] text-white text-xs grid place-items-center shrink-0"
      >
        {technician.initials}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={6}
          className="z-50 bg-sheet text-ink border border-ink-3 rounded-sm p-1 min-w-[200px]"
        >
          <DropdownMenu.Label className="px-3 py-1.5 text-ink-2 text-[12.5px]">
            {technician.fullName}
          </DropdownMenu.Label>
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
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  )
}
