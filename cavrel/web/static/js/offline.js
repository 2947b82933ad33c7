// Keeps this page and what it needs in the browser, so that it can be loaded again while the server is away.

/** On a first visit: later ones go through the service worker, which keeps what it answers. */
export async function keepForOffline() {
  if (!("serviceWorker" in navigator) || !document.body.dataset.run) return;
  const kept = Boolean(navigator.serviceWorker.controller);
  try {
    const worker = await navigator.serviceWorker.register("/sw.js");
    if (kept || !worker) return;
    const store = await caches.open("cavrel");
    const used = performance.getEntriesByType("resource").map((r) => r.name).filter((n) => new URL(n).origin === location.origin && n.includes("/static/"));
    const add = async (url) => { if (!(await store.match(url))) await store.add(url); };
    await Promise.all([store.add(location.href.split("#")[0]), ...[...new Set(used)].map(add)].map((one) => one.catch(() => null)));
  } catch { /* without a service worker the page works, but cannot be reloaded while the server is away */ }
}
