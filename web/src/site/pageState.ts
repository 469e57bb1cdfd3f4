import type { Change, Schemas } from '../api/client'

/** What a technician asked for that needs an open work order. */
export type Asked =
  | { kind: 'form'; form: Schemas['Opens'] }
  | { kind: 'option'; option: { code?: number } }
  | { kind: 'paste'; zone?: { zone: string; name: string; text?: string } }
  | { kind: 'fixAll'; rule: string }
  | { kind: 'takeIn' }
  | { kind: 'change'; change: Change }
  | { kind: 'order' }

/** What of a site's page is in the way of it, beside what its address says. */
type PageState = {
  /** The window that is open. */
  open?: Asked
  /** What waits until a work order is open. */
  waiting?: Asked
  /** What went wrong with a change that has no window to say so. */
  says: string
  /** The inspector is open over a narrow page. */
  sheet: boolean
}

type PageAction =
  | { do: 'ask'; asked: Asked; ordered: boolean }
  | { do: 'ordered' }
  | { do: 'close' }
  | { do: 'give up' }
  | { do: 'say'; says: string }
  | { do: 'sheet'; open: boolean }

export const initial: PageState = { says: '', sheet: false }

/** A change is made at once and an order merely opened: neither has a window. */
const windowed = (asked: Asked) => asked.kind !== 'change' && asked.kind !== 'order'

export function reduce(state: PageState, action: PageAction): PageState {
  switch (action.do) {
    case 'ask':
      if (!action.ordered) return { ...state, waiting: action.asked }
      return windowed(action.asked) ? { ...state, open: action.asked } : state
    case 'ordered':
      return {
        ...state,
        waiting: undefined,
        open: state.waiting && windowed(state.waiting) ? state.waiting : state.open,
      }
    case 'close':
      return { ...state, open: undefined }
    case 'give up':
      return { ...state, waiting: undefined }
    case 'say':
      return { ...state, says: action.says }
    case 'sheet':
      return { ...state, sheet: action.open }
  }
}
