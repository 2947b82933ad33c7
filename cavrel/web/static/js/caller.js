// The caller: beeps, flashes and moves the cursor on at every interval; or lets a wait pass. Beat n belongs to row n after the row it was
// started at, whether or not its reading was taken: a missed one leaves a gap. It keeps its start, so that a reload loses no beat.
import { beep } from "./beep.js";
import { written } from "./decimals.js";
import { keep } from "./keep.js";
import { cell, commit, enter } from "./sheet.js";
import { now as benchNow, realTime } from "./time.js";

const KEY = `cavrel.caller.${document.body.dataset.store}.${document.body.dataset.run}`;
let box, calls;
let running = null; // { index, started, row } with the start in epoch milliseconds of the bench's time
let called = 0;
let frame = 0;

const by = (id) => document.getElementById(id);
const chosen = () => calls[running?.index ?? Number(by("call-which")?.value ?? 0)];

function clock(seconds) {
  const whole = Math.max(0, Math.ceil(seconds));
  const minutes = Math.floor(whole / 60);
  return `${minutes}:${String(whole % 60).padStart(2, "0")}`;
}

function remember() {
  try {
    if (running) localStorage.setItem(KEY, JSON.stringify(running));
    else localStorage.removeItem(KEY);
  } catch { /* the beat then ends with its page */ }
}

const inRow = (key, row) => (key ? cell(`${key}.${row}.1`) : null);

/** The first row that nothing was read in yet: where the first beat goes. */
function firstRow() {
  const now = chosen();
  for (let row = 1; inRow(now.reads, row); row += 1) if (!inRow(now.reads, row).value.trim()) return row;
  return 1;
}

function call(n) {
  const now = chosen();
  beep();
  box.classList.remove("calling");
  void box.offsetWidth; // lets the flash start anew
  box.classList.add("calling");
  by("call-said").textContent = now.kind === "wait" ? "the wait is over" : `read now: number ${n + 1}`;
  if (now.kind === "wait") return;
  const row = running.row + n;
  const time = inRow(now.time?.key, row);
  if (time && !time.value.trim()) {
    time.value = written(((n * now.every) / now.time.factor).toFixed(now.time.decimals));
    commit(time, { by: "caller" });
  }
  const reading = inRow(now.reads, row);
  if (reading) enter(reading);
  else if (now.reads) keep("rows", `rows:${now.reads.split(".")[0]}`, { count: row }); // the table grows with the beat
}

function show() {
  const now = chosen();
  const gone = running ? (benchNow() - running.started) / 1000 : 0;
  const left = now.kind === "wait" ? now.lasting - gone : now.every - (gone % now.every);
  by("call-time").textContent = clock(running ? left : now.every || now.lasting);
  by("call-bar").value = Math.min(gone / now.lasting, 1);
  by("call-go").firstChild.textContent = running ? "Stop " : now.kind === "wait" ? "Start the wait " : "Start the calls ";
  by("call-do").textContent = now.do;
  if (by("call-which")) by("call-which").disabled = Boolean(running);
}

function tick() {
  if (!running) return;
  const now = chosen();
  const gone = (benchNow() - running.started) / 1000;
  const due = now.kind === "wait" ? (gone >= now.lasting ? 1 : 0) : Math.min(Math.floor(gone / now.every), Math.floor(now.lasting / now.every));
  if (due > called) {
    called = due;
    call(due);
  }
  if (gone >= now.lasting) return finish();
  show();
  // The bar follows ten times a second; a call comes at its moment.
  const next = now.kind === "wait" ? now.lasting : (Math.floor(gone / now.every) + 1) * now.every;
  frame = setTimeout(tick, Math.min(100, Math.max(realTime(running.started + 1000 * next) - Date.now(), 0) + 1));
}

function finish() {
  running = null;
  clearTimeout(frame);
  remember();
  show();
}

/** Lets the simulated apparatus know since when its intervals are called. */
function tell() {
  if (chosen().kind === "interval") document.dispatchEvent(new CustomEvent("cavrel:calling", { detail: { started: running.started } }));
}

function press() {
  if (running) return finish();
  running = { index: Number(by("call-which")?.value ?? 0), started: benchNow() };
  running.row = firstRow();
  called = 0;
  remember();
  const until = chosen().kind === "wait" ? { until: new Date(realTime(running.started + 1000 * chosen().lasting)).toISOString() } : {};
  keep("timer", "timer:", { call: chosen().words, ...until });
  tell();
  if (chosen().kind === "interval") call(0);
  tick();
}

export function start() {
  box = by("calls");
  if (!box) return;
  calls = JSON.parse(box.dataset.calls);
  try {
    running = JSON.parse(localStorage.getItem(KEY) ?? "null");
  } catch { running = null; }
  if (running && (!calls[running.index] || !running.row)) running = null;
  if (running) {
    const gone = (benchNow() - running.started) / 1000;
    called = chosen().kind === "wait" ? 0 : Math.floor(gone / chosen().every);
    if (by("call-which")) by("call-which").value = running.index;
  }
  by("call-go").addEventListener("click", press);
  by("call-which")?.addEventListener("change", show);
  show();
  tick();
}
