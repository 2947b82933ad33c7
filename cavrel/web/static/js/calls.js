// What is called in every page of the course: a wait that is over, the next experiment. A sound, a flash, and a line until somebody has seen it.
import { beep } from "./beep.js";
import { clear } from "./covered.js";

const EVERY = 30000; // asked for anew: a lesson is moved by hand
const OLD = 15 * 60000; // what was due longer ago is no call any more
const SEEN = "cavrel.calls.seen";
const timers = new Map();
let apart = 0; // this clock against the server's, milliseconds

function seen() {
  try { return new Set(JSON.parse(localStorage.getItem(SEEN) ?? "[]")); } catch { return new Set(); }
}

function see(key) {
  const all = [...seen(), key].slice(-400);
  try { localStorage.setItem(SEEN, JSON.stringify(all)); } catch { /* it is called again on the next page */ }
}

function board() {
  let box = document.getElementById("called");
  if (!box) {
    box = document.createElement("div");
    box.id = "called";
    box.className = "called-board";
    box.setAttribute("role", "status");
    box.setAttribute("aria-live", "assertive");
    document.body.append(box);
  }
  return box;
}

const uncovered = () => clear(document.getElementById("called"), "calls-high");

function show(call) {
  const { bench: mine } = document.body.dataset;
  if (mine && call.bench !== mine) return; // it speaks to another bench
  if (seen().has(call.key) || document.querySelector(`[data-call="${CSS.escape(call.key)}"]`)) return;
  const line = document.createElement("p");
  line.dataset.call = call.key;
  const bench = document.createElement("b");
  bench.textContent = `${call.bench}: `;
  line.append(bench, call.say, " ");
  if (call.run) {
    const link = document.createElement("a");
    link.href = `/runs/${call.run}/measure`;
    link.textContent = "Go there";
    line.append(link, " ");
  }
  const done = document.createElement("button");
  done.type = "button";
  done.textContent = "Seen";
  done.addEventListener("click", () => {
    see(call.key);
    line.remove();
    uncovered();
  });
  line.append(done);
  board().append(line);
  uncovered();
  beep();
  const root = document.documentElement;
  root.classList.remove("call-made");
  void root.offsetWidth; // lets the flash start anew
  root.classList.add("call-made");
}

function plan(calls) {
  for (const timer of timers.values()) clearTimeout(timer);
  timers.clear();
  const now = Date.now() - apart;
  const known = new Set(calls.map((call) => call.key));
  for (const line of document.querySelectorAll("[data-call]")) if (!known.has(line.dataset.call)) line.remove();
  for (const call of calls) {
    const left = Date.parse(call.at) - now;
    if (left < -OLD) continue;
    if (left <= 0) show(call);
    else if (left < 24 * 3600000) timers.set(call.key, setTimeout(() => show(call), left));
  }
}

async function ask() {
  try {
    const sent = Date.now();
    const answer = await fetch(document.body.dataset.callsUrl, { cache: "no-store" });
    if (!answer.ok) return;
    const { now, calls } = await answer.json();
    apart = (sent + Date.now()) / 2 - Date.parse(now);
    plan(calls);
  } catch { /* what is planned already is called without the server */ }
}

export function startCalls() {
  ask();
  setInterval(ask, EVERY);
  document.addEventListener("visibilitychange", () => { if (!document.hidden) ask(); });
  document.addEventListener("cavrel:lesson", ask);
  document.addEventListener("focusin", uncovered);
  // Another tab has seen it.
  addEventListener("storage", (event) => {
    if (event.key !== SEEN) return;
    const gone = seen();
    for (const line of document.querySelectorAll("[data-call]")) if (gone.has(line.dataset.call)) line.remove();
  });
}
