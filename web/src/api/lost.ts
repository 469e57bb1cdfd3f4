import { shared } from '../parts/shared'

/** Whether the server said that the session is over. The page stays as it is meanwhile, with what was typed in it. */
const lost = shared(false)
let count = 0

/** Which session it is, counted from the first. A refusal counts only for the session its request was sent in. */
export const sessionNow = () => count

/** Notes that the session with this number is over, unless somebody has signed in since. */
export const sessionLost = (session: number) => {
  if (session === count) lost.set(true)
}

/** Notes that a session has begun, or that nobody wants to sign in again. */
export const sessionBegins = () => {
  count++
  lost.set(false)
}

export const useSessionLost = lost.use
