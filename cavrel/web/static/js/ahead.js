// Asks for the next page of a run while a hand is on its way to press its link, so that a slow network is waited for less.

const PAGES = "a.stage, #next-step a, a.stamp-card";
const STAYS = 60; // ms at a link before it counts as meant

export function start() {
  const say = (address) => navigator.serviceWorker?.controller?.postMessage({ ahead: address });
  let waiting = 0;
  for (const [kind, after] of [["pointerover", STAYS], ["focusin", STAYS], ["pointerdown", 0]]) {
    document.addEventListener(kind, (event) => {
      clearTimeout(waiting);
      const link = event.target.closest?.(PAGES);
      if (link) waiting = setTimeout(() => say(link.href.split("#")[0]), after);
    });
  }
  // What is saved meanwhile may change that page.
  document.addEventListener("cavrel:saved", () => say(null));
}
