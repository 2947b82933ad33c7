// The deck: a stopwatch that counts laps, stops itself at the last one and drops its time into the active cell.
import { beep } from "./beep.js";
import { written } from "./decimals.js";
import { keep } from "./keep.js";
import { cell, commit, enter, fillable, nextFor } from "./sheet.js";
import { benchTime, now as benchNow, speed } from "./time.js";

const KEY = `cavrel.watch.${document.body.dataset.store}.${document.body.dataset.run}`;
const ENDS = "cavrel.watch.ends";
const DOWN = "cavrel.watch.down";
const FROM = 3; // seconds that are counted down
let deck, fills, decimals;
let started = null; // epoch milliseconds of the start, in the bench's time; it survives a reload of the page
let laps = [];
let frame = 0;
let target = null;
let down = null; // while it counts down: its timers

const by = (id) => document.getElementById(id);
const wanted = () => Number(deck.dataset.laps);
const counting = () => !by("watch-ends").checked;

function epoch(event) {
  // The moment the key went down, not the moment this script got to it.
  return benchTime(performance.timeOrigin + (event?.timeStamp || performance.now()));
}

function remember() {
  try {
    if (started === null) localStorage.removeItem(KEY);
    else localStorage.setItem(KEY, JSON.stringify({ started, laps, target }));
  } catch { /* the watch then stops with its page */ }
}

function active() {
  const cells = fillable(fills);
  return (target && cells.includes(cell(target)) ? cell(target) : null) ?? cells.find((i) => !i.value.trim()) ?? null;
}

function where(input) {
  const parts = input.dataset.slot.split(".");
  if (parts[0] === "quantities") return `reading ${parts[2]}`;
  const repeated = fillable(fills).filter((i) => i.dataset.slot.split(".")[2] === parts[2]).length > 1;
  return repeated ? `row ${parts[2]}, trial ${parts[3]}` : `row ${parts[2]}`;
}

function show() {
  const input = active();
  const goes = by("watch-goes");
  goes.replaceChildren();
  if (input) {
    const strong = document.createElement("b");
    strong.textContent = where(input);
    goes.append("next: ", strong);
  } else goes.textContent = "all cells are filled";
  const n = wanted();
  const plural = deck.dataset.plural;
  const row = by("watch-laps");
  const boxes = counting() && n <= 60 ? n : 0;
  if (row.childElementCount !== boxes) row.replaceChildren(...Array.from({ length: boxes }, () => document.createElement("i")));
  for (const [i, box] of [...row.children].entries()) box.classList.toggle("on", i < laps.length);
  const count = by("watch-count");
  count.replaceChildren();
  if (counting()) {
    const number = document.createElement("b");
    number.textContent = laps.length;
    count.append(number, ` of ${n} ${plural}`);
  } else count.textContent = started === null ? `press at the start and after ${n} ${plural}` : `you count ${n} ${plural}`;
  const last = laps.length ? (laps.at(-1) - (laps.at(-2) ?? 0)) / 1000 : null;
  by("watch-last").textContent = last === null ? "" : `last ${deck.dataset.lap} ${written(last.toFixed(2))} s`;
  const go = by("watch-go");
  const lap = deck.dataset.lap[0].toUpperCase() + deck.dataset.lap.slice(1);
  go.firstChild.textContent = started === null ? "Start " : counting() ? `${lap} ` : "Stop ";
  by("watch-spoilt").disabled = started === null;
  deck.toggleAttribute("data-running", started !== null);
}

function tick() {
  if (started === null) return;
  by("watch-time").textContent = written(((benchNow() - started) / 1000).toFixed(2));
  frame = requestAnimationFrame(tick);
}

function run() {
  cancelAnimationFrame(frame);
  tick();
  show();
}

/** One press: start, mark a lap, or stop at the last. */
export function press(event) {
  const now = epoch(event);
  if (down) return stopCountdown();
  if (started === null && by("watch-down").checked) return countDown(now);
  if (started === null) begin(now);
  else {
    laps.push(Math.round((now - started) * 10) / 10);
    if (!counting() || laps.length >= wanted()) return stop();
  }
  remember();
  run();
}

function begin(moment) {
  started = moment;
  laps = [];
  target = active()?.dataset.slot ?? null;
}

/** 3, 2, 1, each with a tone, and the watch runs: the clock starts at zero, not when this script gets to it. */
function countDown(pressed) {
  const time = by("watch-time");
  const tell = (left) => {
    time.textContent = `−${left}`;
    beep();
  };
  tell(FROM);
  down = Array.from({ length: FROM }, (_, i) => setTimeout(() => {
    if (i + 1 < FROM) return tell(FROM - i - 1);
    down = null;
    begin(pressed + FROM * 1000);
    beep();
    remember();
    run();
  }, ((i + 1) * 1000) / speed()));
  by("watch-go").firstChild.textContent = "Not yet ";
}

function stopCountdown() {
  down.forEach(clearTimeout);
  down = null;
  by("watch-time").textContent = written((0).toFixed(2));
  show();
}

function stop() {
  const seconds = laps.at(-1) / 1000;
  const text = written(seconds.toFixed(decimals));
  const input = active();
  record(false, input?.dataset.slot ?? "");
  finish();
  by("watch-time").textContent = text;
  if (!input) return;
  input.value = text;
  commit(input, { by: "stopwatch" });
  const next = nextFor(input, fills);
  target = next?.dataset.slot ?? null;
  if (next) enter(next);
  show();
}

function record(spoilt, slot) {
  keep("timer", "timer:", { laps: laps.map((l) => l / 1000), spoilt, slot, counted: counting() });
}

function finish() {
  started = null;
  cancelAnimationFrame(frame);
  remember();
  laps = [];
  show();
}

function spoilt() {
  if (started === null) return;
  const seconds = (benchNow() - started) / 1000;
  if (!laps.length) laps = [Math.round(seconds * 10000) / 10];
  record(true, active()?.dataset.slot ?? "");
  finish();
  by("watch-time").textContent = written((0).toFixed(2));
}

/** What this clock can tell apart, and what a hand at it errs by: the smaller number is not the accuracy. */
function sayAccuracy() {
  let least = Infinity;
  let before = performance.now();
  for (let i = 0; i < 3000; i += 1) {
    const now = performance.now();
    if (now > before) least = Math.min(least, now - before);
    before = now;
  }
  const line = by("watch-true");
  const steps = Number.isFinite(least) ? `this clock steps by ${least < 0.095 ? "less than 0.1" : written(least.toFixed(1))} ms` : "";
  line.textContent = [steps, line.dataset.thumb ? `reaction time about ${line.dataset.thumb}` : ""].filter(Boolean).join("; ");
}

export function start() {
  deck = by("deck");
  if (!deck) return;
  sayAccuracy();
  fills = deck.dataset.fills.split(" ");
  decimals = Number(deck.dataset.decimals);
  try {
    by("watch-ends").checked = localStorage.getItem(ENDS) === "yes";
    by("watch-down").checked = localStorage.getItem(DOWN) === "yes";
    const kept = JSON.parse(localStorage.getItem(KEY) ?? "null");
    if (kept) ({ started, laps, target } = kept);
  } catch { /* a fresh watch then */ }
  by("watch-go").addEventListener("click", press);
  by("watch-spoilt").addEventListener("click", spoilt);
  by("watch-ends").addEventListener("change", (event) => {
    try { localStorage.setItem(ENDS, event.target.checked ? "yes" : "no"); } catch { /* asked again next time */ }
    show();
  });
  by("watch-down").addEventListener("change", (event) => {
    try { localStorage.setItem(DOWN, event.target.checked ? "yes" : "no"); } catch { /* asked again next time */ }
  });
  document.addEventListener("keydown", (event) => {
    if (event.key !== " " || event.repeat || event.ctrlKey || event.metaKey || event.altKey) return;
    const at = event.target;
    const inCell = at.matches?.("#tables input[data-slot]");
    // In a cell that holds something a space may belong to the reading; while the watch runs it always marks.
    if (inCell && started === null && at.value.trim() && at.value !== at.dataset.saved) return;
    if (!inCell && at.closest?.("input, textarea, select, button, summary, a, [role=button]")) return;
    event.preventDefault();
    press(event);
  });
  document.addEventListener("focusin", (event) => {
    if (!event.target.matches?.("input[data-slot]")) return;
    const timed = fillable(fills).includes(event.target);
    deck.classList.toggle("folded", started === null && !timed);
    if (started === null && timed) {
      target = event.target.dataset.slot;
      show();
    }
  });
  document.addEventListener("cavrel:saved", (event) => {
    if (event.detail.laps) deck.dataset.laps = event.detail.laps;
    show();
  });
  run();
}
