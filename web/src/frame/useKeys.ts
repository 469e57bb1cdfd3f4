import { useEffect, useRef } from 'react'

type Keys = Record<string, () => void>

const setting = 'lithos.single-keys'

/** Whether keys of one letter do something; they can be switched off (WCAG 2.1.4). */
export const singleKeys = () => localStorage.getItem(setting) !== 'off'

export const switchSingleKeys = (on: boolean) =>
  on ? localStorage.removeItem(setting) : localStorage.setItem(setting, 'off')

const typing = (target: EventTarget | null) =>
  target instanceof HTMLElement &&
  (target.isContentEditable || ['INPUT', 'TEXTAREA', 'SELECT'].includes(target.tagName))

/**
 * Binds keys for as long as the component shows. A key is "p", "?", "g r" (one
 * after the other), "ctrl+z" or "ctrl+shift+z". None fires while somebody types
 * in a field, or a window or menu is open.
 */
export function useKeys(keys: Keys) {
  const latest = useRef(keys)
  useEffect(() => {
    latest.current = keys
  })
  useEffect(() => {
    let before = ''
    const down = (e: KeyboardEvent) => {
      if (e.defaultPrevented || e.altKey || typing(e.target) || document.querySelector('[role=dialog], [role=menu]'))
        return
      const ctrl = e.ctrlKey || e.metaKey
      if (!ctrl && e.key !== 'Escape' && !singleKeys()) return
      const name = ctrl ? `ctrl+${e.shiftKey ? 'shift+' : ''}${e.key.toLowerCase()}` : e.key
      const run = latest.current[`${before} ${name}`] ?? latest.current[name]
      before = ctrl ? '' : name
      if (run) {
        e.preventDefault()
        before = ''
        run()
      }
    }
    window.addEventListener('keydown', down)
    return () => window.removeEventListener('keydown', down)
  }, [])
}
