import type { Middleware } from 'openapi-fetch'

const most = 40 // answers

/** Answers by their address, with the tag by which the server knows them: one that has not changed is not sent again
 * (RFC 9110 section 13.1.2). They are kept in memory alone. */
const answers = new Map<string, { tag: string; body: string }>()

export const keepAnswers: Middleware = {
  onRequest({ request }) {
    const kept = request.method === 'GET' ? answers.get(request.url) : undefined
    if (kept) request.headers.set('If-None-Match', kept.tag)
    return request
  },
  async onResponse({ request, response }) {
    if (request.method !== 'GET') return undefined
    const kept = answers.get(request.url)
    if (response.status === 304 && kept)
      return new Response(kept.body, { status: 200, headers: { 'Content-Type': 'application/json' } })
    const tag = response.headers.get('ETag')
    if (!response.ok || !tag) return undefined
    answers.delete(request.url)
    answers.set(request.url, { tag, body: await response.clone().text() })
    for (const url of answers.keys()) {
      if (answers.size <= most) break
      answers.delete(url)
    }
    return undefined
  },
}
