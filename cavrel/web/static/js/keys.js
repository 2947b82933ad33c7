// The keys that work wherever no text is being written.
import { undo } from "./keep.js";
import { choose, leaveOut, takeBack, writeNote } from "./margin.js";

let lastSlot = null;

function inText(target) {
  return target.closest?.("input, textarea, select, [contenteditable]");
}

function leaveOutHere() {
  const point = document.activeElement?.closest?.(".pt[data-at]");
  if (point) return choose(point);
  if (!lastSlot) return;
  const input = document.querySelector(`input[data-slot="${CSS.escape(lastSlot)}"]`);
  if (!input || lastSlot.startsWith("quantities.")) return;
  const out = input.closest(".cell").querySelector(".sign.out");
  if (out) takeBack(lastSlot);
  else if (input.value.trim()) leaveOut(lastSlot);
}

function press(key) {
  switch (key) {
    case "n": return writeNote();
    case "u": return undo();
    case "x": return leaveOutHere();
    case "a": return document.querySelector('[data-rule^="rows:"]')?.click();
    case "?": return window.bootstrap?.Offcanvas.getOrCreateInstance("#keys").toggle();
    default: {
      const link = document.querySelector(`.stage[data-stage="${CSS.escape(key)}"]`);
      if (link) location.href = link.href;
    }
  }
}

export function start() {
  document.addEventListener("focusin", (event) => { if (event.target.matches?.("input[data-slot]")) lastSlot = event.target.dataset.slot; });
  document.addEventListener("keydown", (event) => {
    if (event.key === "Escape" && event.target.matches?.("input[data-slot]")) return event.target.blur();
    if (event.key === "Enter" && event.target.matches?.(".pt[role]") && document.body.dataset.page.startsWith("straighten")) return choose(event.target);
    if (event.ctrlKey || event.metaKey || event.altKey || inText(event.target) || event.key === " ") return;
    const key = event.key.length === 1 ? event.key.toLowerCase() : "";
    if (key) press(key);
  });
  document.addEventListener("click", (event) => {
    const button = event.target.closest("[data-key]");
    if (button) press(button.dataset.key);
  });
}
