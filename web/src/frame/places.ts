/** The parts of a page that a key or a skip link goes to, each marked with data-place. */
export const places = [
  ['main', 'To what the page is about', ''],
  ['ruler', 'To the ruler', 'u'],
  ['list', 'To the list', 'l'],
  ['inspector', 'To the inspector', 'i'],
  ['tray', 'To the work order', 'b'],
] as const

type Place = (typeof places)[number][0]

/** The element of a selector that is drawn: what is folded away is in the page, too. */
const drawn = (selector: string) =>
  [...document.querySelectorAll<HTMLElement>(selector)].find((e) => e.getClientRects().length > 0)

const stops = '[tabindex="0"], a[href], button:not(:disabled), input, select'

/** Moves the keyboard focus into a part of the page: on the part itself where it takes keys, else on the first thing
 * in it that does. */
export function focusPlace(place: Place) {
  const part = drawn(`[data-place~=${place}]`)
  if (!part) return
  const inside = (of: string) => part.querySelector<HTMLElement>(of)
  const first = part.tabIndex === 0 ? part : (inside('[data-row][tabindex="0"]') ?? inside(stops))
  if (place === 'main') focusHome()
  else if (place === 'inspector') inside('[data-title]')?.focus()
  else first?.focus()
}

/** Moves the keyboard focus to something that is about to be drawn. */
export function focusSoon(selector: string, frames = 60) {
  requestAnimationFrame(() => {
    const there = drawn(selector)
    if (there) there.focus()
    else if (frames > 0) focusSoon(selector, frames - 1)
  })
}

/** Gives the keyboard focus back to what had it, or to the inspector's heading where that is gone. */
export function focusBack(was: Element | null) {
  const there = was instanceof HTMLElement && was.isConnected && was !== document.body
  if (there && !(was as HTMLButtonElement).disabled) was.focus()
  else focusHome(drawn('[data-place~=inspector]'))
}

/** Where the keyboard focus goes when what had it is gone: the heading of the part it was in, or of the page. */
export function focusHome(within?: Element | null) {
  const home =
    within?.querySelector<HTMLElement>('[data-title]') ??
    document.querySelector<HTMLElement>('main h1, main [data-title]')
  if (!home) return
  if (!home.hasAttribute('tabindex')) home.tabIndex = -1
  home.focus()
}
