// The keys that work wherever no text is being written. Letters can be switched off; no bare digit is a key: digits are readings.
import { undo } from "./keep.js";
import { choose, leaveOut, takeBack, writeNote } from "./margin.js";

const LETTERS = "cavrel.letters";
const OF_READINGS = /^[0-9.,\-−+]$/;
let lastSlot = null;

const lettersOn = () => {
  try { return localStorage.getItem(LETTERS) !== "off"; } catch { return true; }
};

function inText(target) {
  return target.closest?.("input:not([type=checkbox]), textarea, select, [contenteditable]");
}

/** The cell that a digit typed outside a text goes to: the one last used, if it is still empty, else the first empty one. */
function waiting() {
  const last = lastSlot && document.querySelector(`input[data-slot="${CSS.escape(lastSlot)}"]`);
  if (last && !last.value.trim()) return last;
  return [...document.querySelectorAll("#tables .cell:not([data-by-rule]) input[data-slot]")].find((i) => !i.value.trim()) ?? null;
}

function leaveOutHere(row) {
  const point = document.activeElement?.closest?.(".pt[data-at]");
  if (point) return choose(point);
  if (!lastSlot || (row && lastSlot.startsWith("quantities."))) return;
  const input = document.querySelector(`input[data-slot="${CSS.escape(lastSlot)}"]`);
  if (!input) return;
  if (row) {
    const button = input.closest("tr")?.querySelector("[data-row]");
    if (button) (button.dataset.out === "yes" ? takeBack : leaveOut)(button.dataset.row);
    return;
  }
  const out = input.closest(".cell").querySelector(".sign.out");
  if (out) takeBack(lastSlot);
  else if (input.value.trim()) leaveOut(lastSlot);
}

function stage(digit) {
  const link = document.querySelector(`.stage[data-stage="${CSS.escape(digit)}"]`);
  if (!link) return false;
  location.href = link.href;
  return true;
}

/** Does what a key stands for; false where it stands for nothing here. */
function press(key, shift) {
  switch (key) {
    case "n": writeNote(); return true;
    case "u": undo(); return true;
    case "x": leaveOutHere(shift); return true;
    case "a": document.querySelector('[data-rule^="rows:"]')?.click(); return true;
    case "p": {
      const box = document.getElementById("watch-out");
      box?.togglePopover();
      return Boolean(box);
    }
    case "?": document.getElementById("keys").togglePopover(); return true;
    case "/": document.getElementById("find")?.focus(); return Boolean(document.getElementById("find"));
    default: return false;
  }
}

function toggle() {
  const box = document.getElementById("letter-keys");
  if (!box) return;
  box.checked = lettersOn();
  box.addEventListener("change", () => {
    try { localStorage.setItem(LETTERS, box.checked ? "on" : "off"); } catch { /* on again next time */ }
  });
}

export function start() {
  toggle();
  document.addEventListener("focusin", (event) => { if (event.target.matches?.("input[data-slot]")) lastSlot = event.target.dataset.slot; });
  document.addEventListener("keydown", (event) => {
    if (event.key === "Escape" && event.target.matches?.("input[data-slot]")) return event.target.blur();
    if (event.key === "Enter" && event.target.matches?.(".pt[role]") && document.body.dataset.page?.startsWith("fit")) return choose(event.target);
    if (event.altKey && !event.ctrlKey && !event.metaKey && /^Digit[1-9]$/.test(event.code)) {
      if (stage(event.code.slice(5))) event.preventDefault();
      return;
    }
    if (event.ctrlKey || event.metaKey || event.altKey || inText(event.target) || event.key === " ") return;
    if (OF_READINGS.test(event.key)) return waiting()?.focus(); // the character follows the focus into the cell
    const key = event.key.length === 1 ? event.key.toLowerCase() : "";
    if (!key || (/[a-z]/.test(key) && !lettersOn())) return;
    if (press(key, event.shiftKey)) event.preventDefault(); // or it would type itself into what it opened
  });
  document.addEventListener("click", (event) => {
    const button = event.target.closest("[data-key]");
    if (button) press(button.dataset.key, event.shiftKey);
  });
}
