// Runs before the first paint, so that a dark room stays dark.
(() => {
  const themes = ["light", "dark", "dark-room"];
  const stored = (() => { try { return localStorage.getItem("cavrel.theme"); } catch { return null; } })();
  const wanted = new URLSearchParams(location.search).get("theme") ?? stored;
  const theme = themes.includes(wanted) ? wanted : matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light";
  document.documentElement.dataset.theme = theme;
  document.documentElement.dataset.bsTheme = theme === "light" ? "light" : "dark";
})();
