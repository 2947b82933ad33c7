// The frame counter: steps through a film that stays on this device, or counts along with one that runs elsewhere; the frames between two marks go
// into the cell that takes them, or their time where the cell is a time.
import { written } from "./decimals.js";
import { keep } from "./keep.js";
import { cell, commit, enter, fillable, nextFor } from "./sheet.js";

const KEY = `cavrel.frames.${document.body.dataset.store}.${document.body.dataset.run}`;
let box, fills, timed;
let first = null; // the frame marked first
let target = null;

const by = (id) => document.getElementById(id);
const rate = () => Number(by("frames-rate").value.replace(",", "."));
const at = () => Math.max(0, Math.round(Number(by("frames-at").value.replace(",", ".")) || 0));

function remember() {
  try { localStorage.setItem(KEY, JSON.stringify({ first, at: at(), rate: by("frames-rate").value })); } catch { /* counted anew then */ }
}

function active() {
  const cells = fillable(fills);
  return (target && cells.includes(cell(target)) ? cell(target) : null) ?? cells.find((i) => !i.value.trim()) ?? null;
}

const isTime = (input) => timed.some((key) => input.dataset.slot.startsWith(`${key}.`));

function show() {
  const input = active();
  const gone = first === null ? 0 : at() - first;
  by("frames-time").textContent = String(gone);
  by("frames-goes").textContent = input ? `next: ${input.getAttribute("aria-label")}` : "all cells are filled";
  by("frames-last").disabled = first === null || gone <= 0 || !input;
  const r = rate();
  by("frames-said").textContent = !(r > 0) ? "enter a number of frames per second" : first === null
    ? "step to the last frame at rest and mark it" : `${gone} ${gone === 1 ? "frame" : "frames"} since the mark at ${first}: ${written((gone / r).toFixed(3))} s`;
  const film = by("frames-video");
  if (!film.hidden && r > 0) film.currentTime = (at() + 0.5) / r; // the middle of a frame: no rounding falls into the next
  document.dispatchEvent(new CustomEvent("cavrel:frame"));
  remember();
}

function step(many) {
  by("frames-at").value = String(Math.max(0, at() + many));
  show();
}

function markLast() {
  const input = active();
  const gone = at() - first;
  if (!input || gone <= 0) return;
  const text = isTime(input) ? written((gone / rate()).toFixed(3)) : String(gone);
  keep("timer", "timer:", { frames: gone, rate: rate(), slot: input.dataset.slot });
  input.value = text;
  commit(input, { by: "frames" });
  first = null;
  const next = nextFor(input, fills);
  target = next?.dataset.slot ?? null;
  if (next) enter(next);
  show();
}

export function start() {
  box = by("frames");
  if (!box) return;
  fills = box.dataset.fills.split(" ");
  timed = box.dataset.timed ? box.dataset.timed.split(" ") : [];
  try {
    const kept = JSON.parse(localStorage.getItem(KEY) ?? "null");
    if (kept) {
      first = kept.first;
      by("frames-at").value = kept.at;
      by("frames-rate").value = kept.rate;
    }
  } catch { /* from zero then */ }
  box.addEventListener("click", (event) => {
    const { id, dataset } = event.target;
    if (dataset.frames) step(Number(dataset.frames));
    else if (id === "frames-first") { first = at(); show(); }
    else if (id === "frames-last") markLast();
  });
  box.addEventListener("keydown", (event) => {
    if (event.target.id !== "frames-at" || !["ArrowUp", "ArrowDown"].includes(event.key)) return;
    event.preventDefault();
    step((event.key === "ArrowUp" ? 1 : -1) * (event.shiftKey ? 10 : 1));
  });
  box.addEventListener("input", (event) => { if (event.target.matches("#frames-at, #frames-rate")) show(); });
  box.addEventListener("change", (event) => {
    const file = event.target.id === "frames-file" ? event.target.files[0] : null;
    if (!file) return;
    const film = by("frames-video");
    if (film.src) URL.revokeObjectURL(film.src);
    film.src = URL.createObjectURL(file);
    film.hidden = false;
    show();
  });
  document.addEventListener("focusin", (event) => {
    if (event.target.matches?.("input[data-slot]") && fillable(fills).includes(event.target)) { target = event.target.dataset.slot; show(); }
  });
  show();
}
