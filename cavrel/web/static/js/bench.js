// The simulated apparatus: shows what the cell in use is read from, and moves it; long because each scene is one. The numbers come from the server; a person reads them
// off the drawing, whose label says its state to the nearest mark.
import { beep, hum } from "./beep.js";
import { clear } from "./covered.js";
import { written } from "./decimals.js";
import { keep } from "./keep.js";
import { commit } from "./sheet.js";
import { MOTIONS, QUARTERS, SIGNS } from "./indicators.js";
import { drawSamples } from "./samples.js";
import { now, setSpeed, speed } from "./time.js";

const TAKES = `cavrel.takes.${document.body.dataset.store}.${document.body.dataset.run}`;
const SINCE = `cavrel.since.${document.body.dataset.store}.${document.body.dataset.run}`;
let box, view;
let slot = null; // the reading whose apparatus stands here
let shown = null; // the server's answer for it
let state = {}; // of the scene: where it stands, whether it runs
let frame = 0;
let asked = 0;

const by = (id) => document.getElementById(id);

function remembered(key) {
  try { return JSON.parse(localStorage.getItem(key) ?? "{}"); } catch { return {}; }
}

function remember(key, name, value) {
  try { localStorage.setItem(key, JSON.stringify({ ...remembered(key), [name]: value })); } catch { /* until the page goes */ }
}

const takeOf = (of) => remembered(TAKES)[of] ?? 1;

async function ask(wanted) {
  slot = wanted;
  asked += 1;
  const mine = asked;
  const query = new URLSearchParams({ slot, take: takeOf(slot) });
  let said = null;
  let what = "The server does not answer; the apparatus waits for it.";
  try {
    const answer = await fetch(`${box.dataset.url}?${query}`, { headers: { Accept: "application/json" } });
    said = await answer.json();
    if (!answer.ok) { what = said.what; said = null; }
  } catch { /* said below */ }
  if (mine !== asked) return;
  // What is as it was goes on as it is: a swing that is being timed, a contact half way.
  if (said && shown && JSON.stringify(said) === JSON.stringify(shown)) return;
  cancelAnimationFrame(frame);
  hum(null);
  shown = said;
  box.dataset.scene = said?.scene ?? "none";
  box.dataset.slot = slot;
  if (!said) {
    view.textContent = what;
    return;
  }
  view.innerHTML = said.html;
  state = {};
  SCENES[said.scene]?.();
  if (said.scene === "afloat" && !box.dataset.from) by("bench-back").remove();
  if (["still", "not-yet", "afloat"].includes(said.scene)) say(label() ?? by("bench-view").textContent.trim());
}

function label() {
  return by("bench-face")?.querySelector("svg")?.getAttribute("aria-label");
}

/** What it shows, aloud. */
function say(words) {
  if (by("bench-said").textContent !== words) by("bench-said").textContent = words;
}

/** Put the moving part of the instrument where `value` is, and let its label say so. */
function point(value) {
  const face = by("bench-face")?.querySelector("svg");
  const m = shown.moves;
  if (!face || !m.way) return "";
  const decimals = m.decimals ?? 0;
  const nearest = Math.round(value / m.step);
  const text = written((nearest * m.step).toFixed(decimals));
  if (m.way === "vernier") return passed(face, m, value, nearest);
  for (const part of face.querySelectorAll(".moves")) {
    if (m.way === "along") part.setAttribute("transform", `translate(${(m.at + m.per * value).toFixed(2)} ${m.y})`);
    else if (m.way === "up") part.setAttribute("transform", `translate(0 ${(m.at + m.per * value).toFixed(2)})`);
    else if (m.way === "turn") part.setAttribute("transform", `rotate(${(m.at + m.per * value).toFixed(2)} ${m.x} ${m.y})`);
    else part.textContent = text;
  }
  const off = value / m.step - nearest;
  const side = Math.abs(off) < 0.1 ? "on the mark" : off > 0 ? "just past it" : "just before it";
  const words = m.way === "text" ? `shows ${text} ${m.unit}`.trim() : `nearest mark ${`${text} ${m.unit}`.trim()}, ${side}`;
  face.setAttribute("aria-label", `${face.getAttribute("aria-label").split(": ")[0]}: ${words}`);
  return words;
}

/** A main scale that passes its vernier: its marks repeat, and only the numbers at them change. */
function passed(face, m, value, nearest) {
  const main = Math.floor(nearest / m.lines);
  const division = m.lines * m.step;
  const base = m.every * Math.floor((main * division) / m.every + 1e-6);
  const part = face.querySelector(".moves");
  part.setAttribute("transform", `translate(${(m.at + m.per * (value - base)).toFixed(2)} 0)`);
  for (const number of part.querySelectorAll("[data-at]")) number.textContent = written(String(Number((base + Number(number.dataset.at) * division).toFixed(6))));
  const words = `${m.named[0]} has passed ${written((main * division).toFixed(division >= 1 ? 0 : 1))}${m.unit === "°" ? "°" : ` ${m.unit}`}, line ${nearest - main * m.lines} of the ${m.named[1]}'s ${m.lines} meets a mark`;
  face.setAttribute("aria-label", `${face.getAttribute("aria-label").split(": ")[0]}: ${words}`);
  return words;
}

/* --- what is looked for --- */

const COARSE = 50; // steps of a slider that Shift and an arrow go by

function seek() {
  const d = shown.data;
  const slider = by("bench-move");
  Object.assign(slider, { min: d.low, max: d.high, step: d.step });
  // A telescope stays where it was turned to, whatever cell is next.
  const stands = d.stays ? `at:${d.stays}` : `at:${slot}:${takeOf(slot)}`;
  const begun = remembered(SINCE)[stands] ?? d.begin;
  slider.value = begun;
  const drawing = by("bench-sign").querySelector("svg");
  const part = drawing.querySelector(".sign-moves");
  const show = () => {
    const at = Number(slider.value);
    const place = Math.round(((at - d.low) / (d.high - d.low)) * ((d.response?.length ?? 1) - 1));
    const off = d.response ? offOf(drawing.dataset.sign, d.response[place]) : (at - d.at) / d.width;
    const words = d.lines ? SIGNS.spectrum(part, at, d) : SIGNS[drawing.dataset.sign](part, off, d.loops?.[place], Number(by("bench-range")?.value ?? 1));
    const reads = point(at);
    slider.setAttribute("aria-valuetext", `${reads}; ${words}`);
    by("bench-state").textContent = words;
    drawing.setAttribute("aria-label", words);
    remember(SINCE, stands, at);
  };
  slider.addEventListener("input", show);
  by("bench-range")?.addEventListener("change", show);
  slider.addEventListener("keydown", (event) => {
    const way = { ArrowLeft: -1, ArrowDown: -1, ArrowRight: 1, ArrowUp: 1 }[event.key];
    if (!way || !event.shiftKey) return; // without Shift the slider itself goes by one step
    event.preventDefault();
    slider.value = Number(slider.value) + way * COARSE * d.step;
    show();
  });
  if (d.lines) turned(drawing, slider, d.field, show);
  for (const button of view.querySelectorAll("[data-nudge]")) {
    button.addEventListener("click", () => {
      slider.value = Number(slider.value) + Number(button.dataset.nudge) * d.step;
      show();
    });
  }
  show();
}

/** What moves a sign, from its response: a current by itself, a resonance by how many widths off it is. */
const offOf = (sign, response) => (sign === "current" ? -response : Math.sqrt(1 / Math.max(response, 1e-6) - 1));

/** A telescope is turned by its field, too: what is seen goes along with the finger. */
function turned(drawing, slider, field, show) {
  let from = null;
  drawing.addEventListener("pointerdown", (event) => {
    drawing.setPointerCapture(event.pointerId);
    from = { x: event.clientX, at: Number(slider.value) };
  });
  drawing.addEventListener("pointermove", (event) => {
    if (!from) return;
    slider.value = from.at - ((event.clientX - from.x) / drawing.getBoundingClientRect().width) * field;
    show();
  });
  for (const end of ["pointerup", "pointercancel"]) drawing.addEventListener(end, () => { from = null; });
}

/* --- what moves by itself --- */

function every(draw) {
  const step = () => {
    if (draw() === false) return;
    frame = requestAnimationFrame(step);
  };
  step();
}

function laps() {
  const drawing = by("bench-sign").querySelector("svg");
  const part = drawing.querySelector(".sign-moves");
  const { period } = shown.data;
  let whole = NaN;
  let quarter = -1;
  every(() => {
    const turns = now() / 1000 / period;
    MOTIONS[drawing.dataset.motion](part, 2 * Math.PI * turns, drawing);
    // The mark is passed at whole turns; a frame that comes late still says so.
    const at = Math.floor(turns) === whole ? Math.floor(4 * turns) % 4 : 0;
    if (at !== quarter || Math.floor(turns) !== whole) drawing.setAttribute("aria-label", QUARTERS[at]);
    whole = Math.floor(turns);
    quarter = at;
  });
}

/** A reading's place without its trial. */
const place = (text) => text.split(".").slice(0, text.startsWith("quantities.") ? 2 : 3).join(".");

/** What is set in the row of a reading, as text. */
function settings(text) {
  const row = document.querySelector(`input[data-slot="${CSS.escape(text)}"]`)?.closest("tr");
  return row ? [...row.querySelectorAll("td.set input[data-slot]")].map((i) => i.value.trim()).join(" ") : "";
}

function creep() {
  const name = `${place(slot)}:${settings(slot)}`;
  if (!(name in remembered(SINCE))) remember(SINCE, name, now());
  const since = remembered(SINCE)[name];
  const { last, off, tau } = shown.data;
  every(() => {
    const left = off * Math.exp(-(now() - since) / 1000 / tau);
    const words = point(last + left);
    // An eye sees it creep while it goes a tenth of a mark in ten seconds.
    const moves = (Math.abs(left) / tau) * 10 > 0.1 * shown.moves.step;
    by("bench-state").textContent = moves ? "still moving" : "steady";
    if (!moves) say(words);
    return moves; // what stays needs no drawing
  });
}

/** When the calls that run now began, in the bench's time; nothing where none run. */
function callsBegan() {
  try { return JSON.parse(localStorage.getItem(`cavrel.caller.${document.body.dataset.store}.${document.body.dataset.run}`))?.started ?? null; } catch { return null; }
}

function course() {
  state.begun = callsBegan();
  follow();
}

/** Draw a course as it goes; before its calls begin it stands still, and after their end. */
function follow() {
  const { times, values } = shown.data;
  cancelAnimationFrame(frame);
  every(() => {
    const t = state.begun ? (now() - state.begun) / 1000 : 0;
    const at = Math.min(Math.max(t / (times[1] - times[0]), 0), times.length - 1);
    const i = Math.min(Math.floor(at), times.length - 2);
    point(values[i] + (at - i) * (values[i + 1] - values[i]));
    by("bench-state").textContent = state.begun ? "" : "It does not change until the calls start.";
    return Boolean(state.begun) && t < times.at(-1);
  });
}

const MOST_LISTED = 20000; // events whose moments are drawn one by one

function count() {
  by("bench-count").addEventListener("click", () => {
    const { seconds, count: all } = shown.data;
    const begun = now();
    // Of very many the eye sees a steady stream.
    const listed = all <= MOST_LISTED ? Array.from({ length: all }, () => Math.random() * seconds).sort((a, b) => a - b) : null;
    let seen = 0;
    by("bench-count").disabled = true;
    every(() => {
      const t = (now() - begun) / 1000;
      const before = seen;
      if (listed) while (seen < all && listed[seen] <= t) seen += 1;
      else seen = Math.min(all, Math.floor((all * t) / seconds));
      if (seen > before && by("bench-sound").checked) beep(1800, 0.12, 0.02);
      point(seen);
      by("bench-state").textContent = t < seconds ? `counting, ${Math.ceil(seconds - t)} s left` : "counted";
      if (t < seconds) return true;
      say(label());
      return false;
    });
  });
  point(0);
}

/* --- samples --- */

const LONGEST = 12; // seconds that a recording takes to show

function slope() {
  const { times, values, unit } = shown.data;
  const fast = Math.max(1, Math.ceil(times.at(-1) / LONGEST));
  by("bench-go").addEventListener("click", () => {
    const begun = now();
    by("bench-trace").hidden = false;
    by("bench-go").disabled = true;
    every(() => {
      const t = (fast * (now() - begun)) / 1000;
      drawSamples(by("bench-trace"), times, values, times.findIndex((at) => at > t));
      by("bench-state").textContent = t < times.at(-1) ? `receiving samples${fast > 1 ? `, ${fast} times as fast as they were taken` : ""}` : `${times.length} samples`;
      if (t < times.at(-1)) return true;
      by("bench-keep").disabled = false;
      say(`${times.length} samples; keep them, or repeat`);
      return false;
    });
  });
  by("bench-keep").addEventListener("click", () => {
    keep("trace", `trace:${slot.endsWith(".1") ? place(slot) : slot}`, { times, values, unit });
    by("bench-keep").disabled = true;
    by("bench-state").textContent = "kept with the row";
    by("bench-trace").hidden = true;
  });
}

/* --- a film, stepped through with the frame counter --- */

function film() {
  const drawing = by("bench-sign").querySelector("svg");
  const part = drawing.querySelector(".sign-moves");
  const { frames, turns, rest } = shown.data;
  const show = () => {
    const frame = Math.max(0, Math.round(Number(by("frames-at")?.value) || 0));
    const turned = turns * (Math.max(frame - rest, 0) / frames) ** 2;
    part.setAttribute("transform", `translate(280 84) rotate(${(360 * (turned % 1)).toFixed(2)})`);
    const whole = Math.floor(turned);
    const words = frame <= rest ? "at rest" : `${whole} ${whole === 1 ? "turn" : "turns"} and ${Math.round(360 * (turned - whole))}°`;
    drawing.setAttribute("aria-label", `frame ${frame}: ${words}`);
    by("bench-state").textContent = `frame ${frame}`;
  };
  state.film = show;
  show();
}

/* --- a pointer seen aslant --- */

/** Needle and its image in the mirror lie over each other only where the eye stands square to the scale. */
function aslant() {
  const eye = by("bench-eye");
  if (!eye || shown.moves.way !== "turn") return;
  const m = shown.moves;
  const show = () => {
    const off = 3 * Number(eye.value);
    const turn = m.at + m.per * shown.data.last;
    for (const part of by("bench-face").querySelectorAll(".moves")) {
      const seen = turn + (part.classList.contains("image") ? -off : off);
      part.setAttribute("transform", `rotate(${seen.toFixed(2)} ${m.x} ${m.y})`);
    }
    const seen = shown.data.last + off / m.per;
    const nearest = written((Math.round(seen / m.step) * m.step).toFixed(m.decimals));
    const square = Math.abs(off) < 0.1;
    by("bench-state").textContent = square ? "the pointer covers its image" : `the image stands ${off > 0 ? "left" : "right"} of the pointer`;
    const face = by("bench-face").querySelector("svg");
    face.setAttribute("aria-label", `${face.getAttribute("aria-label").split(": ")[0]}: nearest mark ${nearest} ${m.unit}; ${by("bench-state").textContent}`);
  };
  eye.value = String([-0.8, 0.7, -0.5, 0.9][takeOf(slot) % 4]); // nobody sits square to it by chance
  eye.addEventListener("input", show);
  show();
}

const SCENES = { still: aslant, seek, laps, creep, course, count, slope, film };

/** From a cell to what it is read from, and from there back to the cell. */
function across() {
  if (box.contains(document.activeElement)) {
    document.querySelector(`input[data-slot="${CSS.escape(slot ?? "")}"]`)?.focus();
    return;
  }
  const first = by("bench-move") ?? by("bench-reading") ?? view.querySelector("button, input");
  first?.focus();
  box.scrollIntoView({ block: "nearest" });
}

export function start() {
  box = by("screen-bench");
  if (!box) return;
  document.addEventListener("keydown", (event) => {
    if (!event.altKey || event.ctrlKey || event.metaKey || event.code !== "KeyI") return;
    event.preventDefault();
    across();
  });
  view = by("bench-view");
  const hand = box.closest(".with-bench");
  const apart = () => clear(hand, "bench-high");
  if (hand) new ResizeObserver(apart).observe(hand);
  document.addEventListener("focusin", () => requestAnimationFrame(apart));
  by("bench-speed").value = String(speed());
  by("bench-speed").addEventListener("change", (event) => setSpeed(Number(event.target.value)));
  document.addEventListener("cavrel:speed", (event) => { by("bench-speed").value = String(event.detail); });
  document.addEventListener("focusin", (event) => {
    const watched = event.target.dataset?.watched;
    const entered = watched ? `quantities.${watched}.1` : event.target.matches?.("#tables input[data-slot]") ? event.target.dataset.slot : null;
    if (!entered || entered.startsWith("mark:") || entered === slot) return;
    // A course goes on while the cursor follows its calls.
    if (shown?.scene === "course" && running() && slot.split(".")[0] === entered.split(".")[0]) return;
    ask(entered);
  });
  document.addEventListener("cavrel:saved", (event) => {
    const changed = [...Object.keys(event.detail.entries), ...Object.keys(event.detail.others)];
    if (shown?.scene === "course" && running()) return;
    if (slot && !shown) return ask(slot); // a server that was away has answered
    // What is set may move what is shown; a reading taken moves nothing.
    if (slot && changed.some((other) => other !== slot) && (shown?.scene === "not-yet" || changed.some(sets))) ask(slot);
  });
  document.addEventListener("cavrel:frame", () => state.film?.());
  view.addEventListener("submit", (event) => {
    event.preventDefault();
    const input = by("bench-reading");
    const place = document.querySelector(`input[data-slot="${CSS.escape(slot)}"]`);
    if (!input.value.trim() || !place) return;
    place.value = input.value.trim();
    commit(place);
    const cells = [...document.querySelectorAll("#tables input[data-slot]")];
    const next = cells.slice(cells.indexOf(place) + 1).find((i) => !i.value.trim() && !i.placeholder);
    if (next) ask(next.dataset.slot).then(() => by("bench-reading")?.focus());
    else input.value = "";
  });
  document.addEventListener("cavrel:calling", (event) => {
    if (shown?.scene !== "course") return;
    state.begun = event.detail.started;
    follow();
  });
  view.addEventListener("click", (event) => {
    const { id, dataset } = event.target;
    if (id === "bench-again") {
      remember(TAKES, slot, takeOf(slot) + 1);
      ask(slot);
    } else if (id === "bench-zero") {
      box.dataset.from = slot;
      ask(`zero:${dataset.zero}`);
    } else if (id === "bench-back" && box.dataset.from) ask(box.dataset.from);
  });
  by("bench-afloat")?.addEventListener("click", () => { if (slot !== "afloat") box.dataset.from = slot ?? ""; ask("afloat"); });
  const active = document.activeElement;
  if (active?.matches?.("#tables input[data-slot]")) ask(active.dataset.slot);
}

const running = () => state.begun && (now() - state.begun) / 1000 < shown.data.times.at(-1);

/** Whether a cell is one of those that the bench sets, in the row shown, or a quantity. */
function sets(changed) {
  if (changed.startsWith("quantities.")) return true;
  const td = document.querySelector(`input[data-slot="${CSS.escape(changed)}"]`)?.closest("td");
  return Boolean(td?.classList.contains("set")) && changed.split(".")[2] === slot.split(".")[2];
}
