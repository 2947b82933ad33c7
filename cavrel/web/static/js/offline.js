// Keeps this page and what it needs in the browser, so that it can be loaded again while the server is away.
export async function keepForOffline() {
  if (!("serviceWorker" in navigator) || !document.body.dataset.run) return;
  try {
    await navigator.serviceWorker.register("/sw.js");
    const store = await caches.open("cavrel");
    const used = performance.getEntriesByType("resource").map((r) => r.name).filter((n) => new URL(n).origin === location.origin && n.includes("/static/"));
    await Promise.all([location.href.split("#")[0], ...new Set(used)].map((url) => store.add(url).catch(() => null)));
  } catch { /* without a service worker the page works, but cannot be reloaded while the server is away */ }
}
