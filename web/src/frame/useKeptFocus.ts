import { useEffect } from 'react'
import { focusHome } from './places'

/** A button that goes away with what it did, or is switched off by it, takes the keyboard focus along. This moves it
 * to the heading of the part of the page that the button was in. */
export function useKeptFocus() {
  useEffect(() => {
    let last: HTMLElement | null = null
    let part: Element | null = null
    const note = (e: FocusEvent) => {
      if (!(e.target instanceof HTMLElement)) return
      last = e.target
      part = last.closest('aside, footer, [data-place]')
    }
    let looks: ReturnType<typeof setTimeout> | undefined
    const lost = () => {
      looks = undefined
      if (!last || (document.activeElement && document.activeElement !== document.body)) return
      const gone = !last.isConnected || (last as HTMLButtonElement).disabled
      if (!gone || document.querySelector('[role=dialog]')) return
      last = null
      focusHome(part?.isConnected ? part : null)
    }
    // While the focus goes from one thing to the next, nothing has it, and what it leaves may go: the copy buttons of a
    // line do. Whether it is lost shows when it has arrived.
    const watch = new MutationObserver(() => {
      looks ??= setTimeout(lost)
    })
    document.addEventListener('focusin', note)
    watch.observe(document.body, { subtree: true, childList: true, attributes: true, attributeFilter: ['disabled'] })
    return () => {
      clearTimeout(looks)
      document.removeEventListener('focusin', note)
      watch.disconnect()
    }
  }, [])
}
