/** The least time between two runs for one key, in milliseconds. */
const pace = 250

const pause = () =>
  new Promise((done) => {
    setTimeout(done, pace)
  })

/**
 * Runs an act for a key at once, then no more than once every pace, and never before the last run has ended: many calls
 * meanwhile are one run afterwards, so that the last of them is never lost.
 */
export function paced<K>(act: (key: K) => Promise<unknown>) {
  /** Whether there were calls since the run of a key that goes on. */
  const running = new Map<string, boolean>()
  return async (key: K) => {
    const name = JSON.stringify(key)
    if (running.has(name)) {
      running.set(name, true)
      return
    }
    do {
      running.set(name, false)
      await Promise.allSettled([act(key), pause()])
    } while (running.get(name))
    running.delete(name)
  }
}
