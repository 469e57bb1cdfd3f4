import { useQuery } from '@tanstack/react-query'
import { Command } from 'cmdk'
import { useEffect, useRef, useState } from 'react'
import { useNavigate } from 'react-router'
import { api, call, type Schemas } from '../api/client'
import { kindNames, Shape } from '../parts/Kind'
import { useKeys } from './useKeys'

const link = (h: Schemas['Hit']) => {
  const q = new URLSearchParams()
  if (h.network) q.set('network', h.network)
  if (h.ref && h.kind !== 'network') q.set('select', h.ref)
  return `/sites/${h.code}?${q}`
}

/** Looks for an address, MAC, name or VLAN over all sites. */
export function Find() {
  const [text, setText] = useState('')
  const [open, setOpen] = useState(false)
  const input = useRef<HTMLInputElement>(null)
  const box = useRef<HTMLDivElement>(null)
  const navigate = useNavigate()
  useKeys({ '/': () => input.current?.focus() })
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
  const choose = (h: Schemas['Hit']) => {
    setOpen(false)
    setText('')
    input.current?.blur()
    void navigate(link(h))
  }
  return (
    <div ref={box} className="ml-auto relative w-[340px] max-[1000px]:w-[220px]">
      <Command
        shouldFilter={false}
        label="Find"
        onKeyDown={(e) => e.key === 'Escape' && (setOpen(false), input.current?.blur())}
      >
        <div className="relative">
          <Command.Input
            ref={input}
            value={text}
            onValueChange={(v) => {
              setText(v)
              setOpen(true)
            }}
            onFocus={() => setOpen(true)}
            placeholder="Find an address, MAC, name or VLAN"
            className="w-full h-[30px] bg-basalt-2 border border-basalt-line rounded-sm px-2.5 pr-8 text-on-basalt placeholder:text-on-basalt-2"
          />
          <kbd aria-hidden className="absolute right-2 top-[7px] text-on-basalt-2">
            /
          </kbd>
        </div>
        {/* The list is always there for the input's aria-controls; it shows when there is something to show. */}
        <Command.List
          className={
            open && query
              ? 'absolute z-50 top-[36px] right-0 w-[460px] max-w-[92vw] max-h-[60vh] overflow-auto bg-sheet text-ink border border-ink-3 rounded-sm p-1'
              : 'sr-only'
          }
        >
          {open && query && hits.data?.length === 0 && (
            <div className="px-3 py-2 text-ink-2">
              Nothing at any site matches. Type an address, a MAC, a VLAN id or part of a name.
            </div>
          )}
          {open &&
            query &&
            hits.data?.map((h) => (
              <Command.Item
                key={`${h.code}/${h.ref ?? ''}/${h.detail}`}
                value={`${h.code}/${h.ref ?? ''}/${h.detail}`}
                onSelect={() => choose(h)}
                className="px-3 py-1.5 rounded-sm cursor-pointer data-[selected=true]:bg-ground flex items-baseline gap-3"
              >
                <span className="w-[110px] text-ink-2 shrink-0">
                  <Shape kind={h.kind} />
                  {kindNames[h.kind]}
                </span>
                <span className="font-semibold">{h.title || '(no name)'}</span>
                <span className="mono text-ink-2 truncate">{h.detail}</span>
                <span className="ml-auto text-ink-3 text-xs whitespace-nowrap">{h.site}</span>
              </Command.Item>
            ))}
        </Command.List>
      </Command>
    </div>
  )
}
