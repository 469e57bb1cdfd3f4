// Keeps the page of visits and what it needs, so that it opens where there is no connection. Everything is asked of
// the server first.
const kept = 'visits-1'
const wanted = (url) => /^\/(moves\/\d+\/visits|assets\/.*|api\/session|api\/moves\/\d+|mark\.svg)$/.test(url.pathname)

self.addEventListener('install', () => self.skipWaiting())
self.addEventListener('activate', (event) => event.waitUntil(self.clients.claim()))
self.addEventListener('fetch', (event) => {
  const url = new URL(event.request.url)
  if (event.request.method !== 'GET' || url.origin !== self.location.origin || !wanted(url)) return
  event.respondWith(
    (async () => {
      const cache = await caches.open(kept)
      try {
        const answer = await fetch(event.request)
        if (answer.ok) await cache.put(event.request, answer.clone())
        return answer
      } catch (gone) {
        const old = await cache.match(event.request)
        if (old) return old
        throw gone
      }
    })(),
  )
})
