import { shared } from '../parts/shared'

/** Since when the page is not live, in ms since 1970; 0 while it is. */
const away = shared(0)

export const useAway = away.use

const first = 1_000 // ms until it is tried again
const longest = 30_000

/**
 * Hears events from an address until it is told to end. A browser gives an event stream up for good after one answer
 * that is no stream, such as that of a proxy whose server restarts: it is made anew then, ever more rarely. back is
 * called whenever it is heard again after a while without it.
 */
export function liveStream(address: string, back: () => void, hear: (message: MessageEvent) => void): () => void {
  let stream: EventSource | undefined
  let timer: ReturnType<typeof setTimeout> | undefined
  let wait = first
  const connect = () => {
    stream = new EventSource(address)
    stream.onmessage = hear
    stream.onopen = () => {
      wait = first
      if (away.get()) back()
      away.set(0)
    }
    stream.onerror = () => {
      if (!away.get()) away.set(Date.now())
      if (stream?.readyState !== EventSource.CLOSED) return // the browser tries again by itself
      stream.close()
      timer = setTimeout(connect, wait)
      wait = Math.min(2 * wait, longest)
    }
  }
  connect()
  return () => {
    clearTimeout(timer)
    stream?.close()
  }
}
