import { useQuery } from '@tanstack/react-query'
import { Command } from 'cmdk'
import { useEffect, useRef, useState } from 'react'
import { useNavigate } from 'react-router'
import { api, call, type Schemas } from '../api/client'
import { Shape } from '../parts/Kind'
import { plural } from '../parts/plural'
import { When } from '../parts/When'
import { useKeys } from './useKeys'

const link = (h: Schemas['Hit']) => {
  if (h.order) return `/orders/${h.order}`
  const q = new URLSearchParams()
  if (h.finding) q.set('finding', h.finding)
  if (h.network) q.set('network', h.network)
  if (h.ref && h.kind !== 'network') q.set('select', h.ref)
  return `/sites/${h.code}?${q}`
}

const nameOf = (h: Schemas['Hit']) => `${h.code}/${h.ref ?? h.finding ?? h.order ?? ''}/${h.detail}`

/** Looks for anything over all sites: addresses and MACs in part, names, VLANs, orders, findings, what was seen. */
export function Find() {
  const [text, setText] = useState('')
  const [open, setOpen] = useState(false)
  const input = useRef<HTMLInputElement>(null)
  const box = useRef<HTMLDivElement>(null)
  const navigate = useNavigate()
  // What was looked for last is marked: typing takes its place.
  useKeys({ '/': () => input.current?.select() })
  useEffect(() => {
    const outside = (e: PointerEvent) => !box.current?.contains(e.target as Node) && setOpen(false)
    document.addEventListener('pointerdown', outside)
    return () => document.removeEventListener('pointerdown', outside)
  }, [])
  const query = text.trim()
  const hits = useQuery({
    queryKey: ['find', query],
    enabled: query.length > 0,
    queryFn: () => call(api.GET('/api/find', { params: { query: { q: query } } })),
  })
  // The first hit is the active one: Enter opens it.
  const [chosen, setActive] = useState('')
  const names = (hits.data ?? []).map(nameOf)
  const active = names.includes(chosen) ? chosen : (names[0] ?? '')
  const choose = (h: Schemas['Hit']) => {
    setOpen(false)
    setText('')
    input.current?.blur()
    void navigate(link(h))
  }
  return (
    <div
      ref={box}
      className={
        'ml-auto relative w-[340px] max-[1000px]:w-[220px] max-[641px]:w-auto max-[641px]:min-w-0 ' +
        'max-[641px]:flex-1'
      }
    >
      <Command
        shouldFilter={false}
        label="Find"
        value={active}
        onValueChange={setActive}
        onKeyDown={(e) => e.key === 'Escape' && (setOpen(false), input.current?.blur())}
      >
        <div className="relative">
          <Command.Input
            ref={input}
            value={text}
            onValueChange={(v) => {
              setText(v)
              setActive('')
              setOpen(true)
            }}
            onFocus={() => setOpen(true)}
            placeholder="Find an address, MAC, name, VLAN, order"
            className={
              'w-full h-[30px] bg-basalt-2 border border-basalt-line rounded-sm px-2.5 pr-8 text-on-basalt ' +
              'placeholder:text-on-basalt-2'
            }
          />
          <kbd aria-hidden className="absolute right-2 top-[7px] text-on-basalt-2">
            /
          </kbd>
        </div>
        <span role="status" className="sr-only">
          {open && query && hits.data && !hits.isPlaceholderData ? plural(hits.data.length, 'hit') : ''}
        </span>
        {/* The list is always there for the input's aria-controls; it shows when there is something to show. */}
        <Command.List
          className={
            open && query
              ? 'absolute z-50 top-[36px] right-0 w-[620px] max-w-[92vw] max-[641px]:fixed max-[641px]:left-2 ' +
                'max-[641px]:right-2 max-[641px]:top-[46px] max-[641px]:w-auto max-h-[60vh] overflow-auto ' +
                'bg-sheet text-ink border border-ink-3 rounded-sm p-1'
              : 'sr-only'
          }
        >
          {open && query && hits.data?.length === 0 && (
            <div className="px-3 py-2 text-ink-2">
              Nothing at any site matches. Type an address or MAC or part of one, a VLAN id, part of a name, or the
              number of a work order.
            </div>
          )}
          {open &&
            query &&
            hits.data?.map((h) => (
              <Command.Item
                key={nameOf(h)}
                value={nameOf(h)}
                onSelect={() => choose(h)}
                className={
                  'px-3 py-1.5 rounded-sm cursor-pointer data-[selected=true]:bg-ground flex items-baseline ' + 'gap-3'
                }
              >
                <span className="w-[110px] text-ink-2 shrink-0">
                  <Shape kind={h.kind} />
                  {h.what}
                </span>
                <span className="font-semibold">{h.title || '(no name)'}</span>
                <span className="mono text-ink-2 truncate" title={h.detail}>
                  {h.detail}
                </span>
                {h.when && (
                  <span className="text-ink-2 whitespace-nowrap">
                    {h.whenSays} <When at={h.when} />
                  </span>
                )}
                <span className="ml-auto text-ink-3 text-xs whitespace-nowrap">{h.site}</span>
              </Command.Item>
            ))}
        </Command.List>
      </Command>
    </div>
  )
}
