// The clock and the themes.
export function startClock() {
  const clock = document.getElementById("clock");
  if (!clock) return;
  const two = (n) => String(n).padStart(2, "0");
  const tick = () => {
    const now = new Date();
    clock.textContent = `${two(now.getHours())}:${two(now.getMinutes())}:${two(now.getSeconds())}`;
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
