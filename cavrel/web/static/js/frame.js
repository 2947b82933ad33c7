// The clock and the themes.
const { zone } = document.body.dataset;
let format;
try {
  format = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit", timeZone: zone || undefined });
} catch { // a zone that this browser does not know
  format = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit" });
}

/** A moment as the course's clock tells it, whatever zone the browser is in. */
export const told = (moment) => format.format(moment);

export function startClock() {
  const clock = document.getElementById("clock");
  if (!clock) return;
  if (zone) clock.title = zone;
  const tick = () => {
    const now = new Date();
    clock.textContent = told(now);
    setTimeout(tick, 1000 - now.getMilliseconds() + 5);
  };
  tick();
}

export function startThemes() {
  const root = document.documentElement;
  const show = () => {
    for (const button of document.querySelectorAll("[data-set-theme]")) {
      button.setAttribute("aria-pressed", String(button.dataset.setTheme === root.dataset.theme));
    }
  };
  // The rail is drawn anew after each save, so the buttons are found when they are pressed.
  document.addEventListener("click", (event) => {
    const button = event.target.closest("[data-set-theme]");
    if (!button) return;
    root.dataset.theme = button.dataset.setTheme;
    root.dataset.bsTheme = root.dataset.theme === "light" ? "light" : "dark";
    try { localStorage.setItem("cavrel.theme", root.dataset.theme); } catch { /* the choice then lasts as long as the page */ }
    show();
  });
  document.addEventListener("htmx:oobAfterSwap", show);
  show();
}

/** Parts that were unfolded stay so when the page is drawn or loaded anew, as long as this tab is open. */
export function keepUnfolded() {
  const home = `cavrel.unfolded.${location.pathname}`;
  const known = () => {
    try { return JSON.parse(sessionStorage.getItem(home) ?? "[]"); } catch { return []; }
  };
  for (const id of known()) document.getElementById(id)?.setAttribute("open", "");
  document.addEventListener("toggle", (event) => {
    if (!event.target.matches?.("details.fold[id], details.for-instructors")) return;
    const ids = [...document.querySelectorAll("details.fold[open][id], details.for-instructors[open]")].map((part) => part.id);
    try { sessionStorage.setItem(home, JSON.stringify(ids)); } catch { /* it folds again, no more */ }
  }, true);
}

/** What is folded on a narrow page: a button unfolds the part that it names. */
export function startFolds() {
  document.addEventListener("click", (event) => {
    const button = event.target.closest?.("[data-unfold]");
    if (!button) return;
    const part = document.getElementById(button.dataset.unfold);
    const open = part.toggleAttribute("data-unfolded");
    button.setAttribute("aria-expanded", String(open));
  });
}
