// Samples of a row: put in from a paste, a file or a sensor; the stretch of them that counts is dragged, typed or taken as proposed.
import { keep } from "./keep.js";
import { resumeLive, startLive, stopLive } from "./live.js";

const DRAFT = `cavrel.samples.${document.body.dataset.store}.${document.body.dataset.run}.`;
const MOST_KEPT = 500000; // characters of a draft that the browser is asked to hold
const by = (id) => document.getElementById(id);
const chosen = () => by("chosen");
let panel;
let place = null; // whose samples stand here
let asked = 0;
let looked = 0;
let choice = {}; // of the columns of a text
let body = null; // the trace that the choice gives

function choose(begin, end) {
  if (!Number.isFinite(begin) || !Number.isFinite(end) || begin === end) return;
  const [low, high] = [Math.min(begin, end), Math.max(begin, end)].map((t) => Number(t.toPrecision(6)));
  keep("stretch", `stretch:${chosen().dataset.place}`, { begin: low, end: high });
}

function timeAt(graph, event) {
  const box = graph.getBoundingClientRect();
  const x = ((event.clientX - box.left) / box.width) * graph.viewBox.baseVal.width;
  const { start, end, low, high } = graph.dataset;
  const share = Math.min(Math.max((x - start) / (end - start), 0), 1);
  return Number(low) + share * (Number(high) - Number(low));
}

/* --- next to the row --- */

const url = (more = "") => `${panel.dataset.url}${place}${more}`;

/** Show the samples of a row at Measure. */
async function show(wanted, again = false) {
  if (wanted !== place) stopLive();
  place = wanted;
  asked += 1;
  const mine = asked;
  const before = by("samples-text")?.value ?? "";
  const open = by("samples")?.open;
  try {
    const answer = await fetch(url("/part"));
    if (!answer.ok || mine !== asked) return;
    panel.innerHTML = await answer.text();
    panel.hidden = false;
    if (panel.dataset.place === place && open !== undefined) by("samples").open = open && Boolean(before);
    panel.dataset.place = place;
    restore();
    resumeLive();
    if (again) panel.scrollIntoView({ block: "nearest" });
  } catch { /* the table goes on; the samples wait for the server */ }
}

function restore() {
  let text = "";
  try { text = localStorage.getItem(DRAFT + place) ?? ""; } catch { /* nothing held */ }
  if (!text || !by("samples-text")) return;
  by("samples").open = true;
  by("samples-text").value = text;
  look(text);
}

function hold(text) {
  try {
    if (text && text.length <= MOST_KEPT) localStorage.setItem(DRAFT + place, text);
    else localStorage.removeItem(DRAFT + place);
  } catch { /* it stays on the page */ }
}

/** What a text holds: its columns to choose from. */
async function look(text) {
  const out = by("looked-at");
  looked += 1;
  const mine = looked; // an answer about an older text or choice is too late
  body = null;
  if (!text.trim()) return out.replaceChildren();
  const token = document.querySelector("meta[name=csrf-token]").content;
  try {
    const answer = await fetch(url("/read"), {
      method: "POST", headers: { "Content-Type": "application/json", "X-CSRFToken": token }, body: JSON.stringify({ text, ...choice }),
    });
    const said = await answer.json();
    if (mine !== looked) return;
    if (!answer.ok || !said.html) {
      out.textContent = `${said.what ?? "The server cannot read this."} Your text is above.`;
      out.className = "fault";
      return;
    }
    out.className = "";
    out.innerHTML = said.html;
    body = said.body;
  } catch {
    out.textContent = "The server does not answer. Your text stays here; change it by a character to try again.";
  }
}

function take(text) {
  choice = {};
  by("samples").open = true;
  by("samples-text").value = text;
  hold(text);
  look(text);
}

async function fromFile(file) {
  if (file.size > 1900000) {
    by("looked-at").textContent = "A page sends at most two megabytes: cut the file to the run that counts.";
    return;
  }
  take(await file.text());
}

function keepSamples() {
  if (!body) return;
  keep("trace", `trace:${place}`, body);
  hold("");
  by("samples-text").value = "";
  by("looked-at").replaceChildren();
  by("samples").open = false;
}

/** What the column's heading says stays, and whether its sensor counts the other way is said with it. */
function countOtherWay({ checked, dataset }) {
  keep("heading", `heading:${dataset.key}`, { ...JSON.parse(dataset.heading), reversed: checked });
}

function startPutting() {
  document.addEventListener("input", (event) => {
    if (event.target.id === "samples-text") { choice = {}; hold(event.target.value); look(event.target.value); }
  });
  document.addEventListener("change", (event) => {
    if (event.target.id === "samples-file" && event.target.files[0]) return fromFile(event.target.files[0]);
    if (event.target.id === "counts-other-way") return countOtherWay(event.target);
    const name = event.target.dataset?.choice;
    if (!name) return;
    choice[name] = name === "sign" ? (event.target.checked ? -1 : 1) : ["rate", "unit"].includes(name) ? event.target.value : Number(event.target.value);
    if (name === "value") delete choice.unit;
    look(by("samples-text").value);
  });
  document.addEventListener("click", (event) => {
    const { id, dataset } = event.target;
    if (id === "keep-samples") keepSamples();
    else if (id === "take-proposed") choose(Number(dataset.begin), Number(dataset.end));
  });
  document.addEventListener("dragover", (event) => { if (place && event.dataTransfer?.types.includes("Files")) event.preventDefault(); });
  document.addEventListener("drop", (event) => {
    const file = event.dataTransfer?.files[0];
    if (!place || !file) return;
    event.preventDefault();
    fromFile(file);
  });
  document.addEventListener("paste", (event) => {
    const text = event.clipboardData?.getData("text/plain") ?? "";
    const lines = text.trim().split("\n").length;
    // Many lines over a row that takes samples are samples; a few in its cell may be a block of the table.
    if (!place || lines < 12 || event.target.id === "samples-text" || event.target.matches?.("textarea")) return;
    event.preventDefault();
    event.stopImmediatePropagation();
    take(text);
  }, true);
}

/** At Measure the samples stand next to the row whose cell is in use. */
function startBeside() {
  document.addEventListener("focusin", (event) => {
    const link = event.target.matches?.("#tables input[data-slot]") ? event.target.parentElement.querySelector("[data-trace]") : null;
    if (link && link.dataset.trace !== place) show(link.dataset.trace);
  });
  document.addEventListener("click", (event) => {
    const link = event.target.closest?.("#tables a[data-trace]");
    if (!link || event.ctrlKey || event.metaKey || event.shiftKey) return;
    event.preventDefault();
    show(link.dataset.trace).then(() => panel.scrollIntoView({ block: "nearest" }));
  });
  document.addEventListener("cavrel:saved", (event) => {
    const changed = [...Object.keys(event.detail.entries), ...Object.keys(event.detail.others)];
    if (place && changed.some((slot) => [`trace:${place}`, `stretch:${place}`, `heading:${place.split(".").slice(0, 2).join(".")}`].includes(slot) || slot.startsWith(`${place}.`))) show(place, changed.includes(`trace:${place}`));
  });
}

export function start() {
  panel = by("trace-panel");
  if (!panel) return;
  if (document.body.dataset.page === "measure") startBeside();
  else place = panel.dataset.place;
  startPutting();
  startLive(() => ({ place, url }));
  if (place) {
    restore();
    resumeLive();
  }
  let from = null;
  let mark = null;
  document.addEventListener("pointerdown", (event) => {
    const graph = event.target.closest?.("#trace-figure svg");
    if (!graph) return;
    event.preventDefault();
    graph.setPointerCapture(event.pointerId);
    from = timeAt(graph, event);
    mark = graph.querySelector(".stretch");
  });
  document.addEventListener("pointermove", (event) => {
    const graph = event.target.closest?.("#trace-figure svg");
    if (from === null || !graph || !mark) return;
    const { start: left, end: right, low, high } = graph.dataset;
    const at = (t) => Number(left) + ((t - low) / (high - low)) * (right - left);
    const [a, b] = [at(from), at(timeAt(graph, event))].sort((p, q) => p - q);
    mark.setAttribute("x", a);
    mark.setAttribute("width", b - a);
  });
  document.addEventListener("pointerup", (event) => {
    const graph = event.target.closest?.("#trace-figure svg");
    if (from === null || !graph) return;
    choose(from, timeAt(graph, event));
    from = null;
  });
  document.addEventListener("change", (event) => {
    if (!event.target.matches("#stretch-begin, #stretch-end")) return;
    const [begin, end] = ["stretch-begin", "stretch-end"].map((id) => {
      const text = by(id).value.trim().replace(",", ".");
      return text === "" ? NaN : Number(text);
    });
    const bad = !Number.isFinite(Number.isFinite(begin) ? end : begin);
    event.target.setAttribute("aria-invalid", String(bad));
    if (bad) by("stretch-value").textContent = `“${event.target.value}” is not a time in seconds, such as 0.9`;
    choose(begin, end);
  });
}
