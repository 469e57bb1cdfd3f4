import { shared } from './shared'

/**
 * The outcome of what a technician did, said once: read out by a screen reader, and shown above the tray for a while.
 */
const said = shared({ text: '', count: 0 })

export function announce(text: string) {
  said.set({ text, count: said.get().count + 1 })
}

export const useSaid = said.use
