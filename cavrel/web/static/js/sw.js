// Network first but for files that never change; what was seen before when the network or the database is away. Entries are never saved on this device: the page keeps them.
const STORE = "cavrel";

self.addEventListener("install", () => self.skipWaiting());
self.addEventListener("activate", (event) => event.waitUntil(self.clients.claim()));
self.addEventListener("fetch", (event) => {
  const request = event.request;
  const url = new URL(request.url);
  if (request.method !== "GET" || url.origin !== location.origin) return;
  const kept = url.pathname.startsWith("/static/") || (request.mode === "navigate" && !url.pathname.endsWith(".json"));
  if (kept) event.respondWith(answer(request));
});

/** A file whose address changes with what it holds. */
const FIXED = /^\/static\/[0-9a-f]{8,}\//;

async function answer(request) {
  const store = await caches.open(STORE);
  const fixed = FIXED.test(new URL(request.url).pathname) && (await store.match(request));
  if (fixed) return fixed;
  try {
    const response = await fetch(request);
    if (response.ok) store.put(request, response.clone());
    if (response.status !== 503) return response;
    return (await store.match(request)) ?? response;
  } catch (fault) {
    const kept = await store.match(request);
    if (kept) return kept;
    throw fault;
  }
}
