// Network first but for files that never change; what was seen before when the network or the database is away. Entries are never saved on this device: the page keeps them.
const STORE = "cavrel";

self.addEventListener("install", () => self.skipWaiting());
self.addEventListener("activate", (event) => event.waitUntil(self.clients.claim()));
self.addEventListener("fetch", (event) => {
  const request = event.request;
  const url = new URL(request.url);
  if (request.method !== "GET") ahead.clear(); // what was fetched ahead may be changed by it
  if (request.method !== "GET" || url.origin !== location.origin) return;
  const kept = url.pathname.startsWith("/static/") || (request.mode === "navigate" && !url.pathname.endsWith(".json"));
  if (kept) event.respondWith(answer(request));
});

/** A page that is asked for before its link is pressed, by address; one that is not wanted within seconds is asked for anew. */
const ahead = new Map();
const WANTED_WITHIN = 5000;

self.addEventListener("message", (event) => {
  const address = event.data?.ahead;
  if (!address) return ahead.clear();
  if (new URL(address).origin !== location.origin || Date.now() - (ahead.get(address)?.since ?? 0) < WANTED_WITHIN) return;
  ahead.set(address, { since: Date.now(), response: fetch(address).catch(() => null) });
});

/** What was fetched ahead, once; nothing where it is old, went wrong or leads elsewhere. */
async function fetchedAhead(request) {
  const found = request.mode === "navigate" && ahead.get(request.url);
  if (!found) return null;
  ahead.clear();
  const response = Date.now() - found.since < WANTED_WITHIN ? await found.response : null;
  return response?.ok && !response.redirected ? response : null;
}

/** A file whose address changes with what it holds. */
const FIXED = /^\/static\/[0-9a-f]{8,}\//;

async function answer(request) {
  const store = await caches.open(STORE);
  const fixed = FIXED.test(new URL(request.url).pathname) && (await store.match(request));
  if (fixed) return fixed;
  try {
    const response = (await fetchedAhead(request)) ?? (await fetch(request));
    if (response.ok) store.put(request, response.clone());
    if (response.status !== 503) return response;
    return (await store.match(request)) ?? response;
  } catch (fault) {
    const kept = await store.match(request);
    if (kept) return kept;
    throw fault;
  }
}
