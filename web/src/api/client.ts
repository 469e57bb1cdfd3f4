import createClient from 'openapi-fetch'
import { keepAnswers } from './kept'
import { sessionLost, sessionNow } from './lost'
import type { components, paths } from './schema.gen'

export type Schemas = components['schemas']
/** A site as its page shows it: the frame, the network that is looked at, and the inspected part. */
export type View = Schemas['Frame'] & { network?: Schemas['NetworkView']; part: Schemas['Inspection'] }
export type Finding = Schemas['Finding']
export type Row = Schemas['Row']
export type Change = Omit<Schemas['EditRequest'], 'look' | 'version'>

export const api = createClient<paths>({ baseUrl: '/' })
api.use(keepAnswers)

/** What the server says is wrong (RFC 9457), with the fields at fault. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly fields: Record<string, string> = {},
    /** What may be meant in a field, where that is known. */
    readonly instead: Record<string, string> = {},
  ) {
    super(message)
  }
}

/** Anything thrown, as a problem to show. */
export const problemOf = (e: unknown) =>
  e instanceof Problem ? e : new Problem(0, e instanceof Error ? e.message : String(e))

const unreachable = 'Lithos does not answer. What you typed is kept; try again when the connection is back.'

/** Runs a request and throws a Problem when it fails. */
export async function call<T>(request: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const session = sessionNow()
  let result
  try {
    result = await request
  } catch {
    throw new Problem(0, unreachable)
  }
  if (result.response.ok) return result.data as T
  if (result.response.status === 401 && !result.response.url.endsWith('/api/session')) sessionLost(session)
  const body = result.error as Schemas['ErrorModel'] | undefined
  const fields: Record<string, string> = {}
  const instead: Record<string, string> = {}
  for (const e of body?.errors ?? []) {
    const name = e.location?.replace(/^(?:body|query)\.(entries\[\d+\]\.fields\.)?/, '')
    if (name && e.message) fields[name] = e.message
    if (name && typeof e.value === 'string') instead[name] = e.value
  }
  const says = body?.detail ?? `The server answers ${result.response.status}.`
  throw new Problem(result.response.status, says, fields, instead)
}

/** The first failure of several requests. */
export function problemIn(requests: { error: Error | null }[]) {
  const failed = requests.find((m) => m.error)?.error
  return failed ? problemOf(failed) : undefined
}

/** What is said of a problem beside the form: nothing where a field of it says what is wrong. */
export function unplaced(problem?: Problem): string | undefined {
  return problem && Object.keys(problem.fields).length === 0 ? problem.message : undefined
}
