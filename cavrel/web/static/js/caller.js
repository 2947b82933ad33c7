// The caller: beeps, flashes and moves the cursor on at every interval; or lets a wait pass. It keeps its start, so that a reload of the
// page does not lose the beat.
import { keep } from "./keep.js";
import { enter, fillable } from "./sheet.js";

const KEY = `cavrel.caller.${document.body.dataset.store}.${document.body.dataset.run}`;
let box, calls;
let running = null; // { index, started } in epoch milliseconds
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

function beep() {
  try {
    const audio = new AudioContext();
    const tone = audio.createOscillator();
    const gain = audio.createGain();
    tone.frequency.value = 880;
    gain.gain.setValueAtTime(0.2, audio.currentTime);
    gain.gain.exponentialRampToValueAtTime(0.001, audio.currentTime + 0.35);
    tone.connect(gain).connect(audio.destination);
    tone.start();
    tone.stop(audio.currentTime + 0.4);
    tone.onended = () => audio.close();
  } catch { /* a silent room: the flash still shows */ }
}

function call(n) {
  beep();
  box.classList.remove("calling");
  void box.offsetWidth; // lets the flash start anew
  box.classList.add("calling");
  by("call-said").textContent = chosen().kind === "wait" ? "the wait is over" : `read now: number ${n + 1}`;
  const next = fillable(chosen().fills).filter((i) => !i.placeholder).find((i) => !i.value.trim());
  if (next && chosen().kind !== "wait") enter(next);
}

function show() {
  const now = chosen();
  const gone = running ? (Date.now() - running.started) / 1000 : 0;
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
  const gone = (Date.now() - running.started) / 1000;
  const due = now.kind === "wait" ? (gone >= now.lasting ? 1 : 0) : Math.min(Math.floor(gone / now.every), Math.floor(now.lasting / now.every));
  if (due > called) {
    called = due;
    call(due);
  }
  if (gone >= now.lasting) return finish();
  show();
  frame = setTimeout(tick, 100);
}

function finish() {
  running = null;
  clearTimeout(frame);
  remember();
  show();
}

function press() {
  if (running) return finish();
  running = { index: Number(by("call-which")?.value ?? 0), started: Date.now() };
  called = 0;
  remember();
  keep("timer", "timer:", { call: chosen().words });
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
  if (running && !calls[running.index]) running = null;
  if (running) {
    const gone = (Date.now() - running.started) / 1000;
    called = chosen().kind === "wait" ? 0 : Math.floor(gone / chosen().every);
    if (by("call-which")) by("call-which").value = running.index;
  }
  by("call-go").addEventListener("click", press);
  by("call-which")?.addEventListener("change", show);
  show();
  tick();
}
