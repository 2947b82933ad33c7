// The queue between a page and the logbook. An entry is kept in the browser first and sent at once; it leaves the queue only when the
// server says that it is committed, before anything is computed from it. Sent twice, it counts once: each carries its own key. Every answer
// brings what other pages saved.
import { told } from "./frame.js";
import { parts } from "./parts.js";
import { add, alone, aside, entries, forget, onlyHere, ours, remove, setAside, setDraft } from "./pending.js";

const body = document.body;
const TOUCHED = `cavrel.touched.${body.dataset.store}.${body.dataset.run}`;
const WAITS = [1000, 2000, 4000, 8000];
const NEWS = 1800; // another hand of the bench, or the instructor, sees an entry within two seconds
const MOST = 200;
const PATIENCE = 250; // what follows from a send is waited for so long before new entries go without it
const GIVEN_UP = 5000; // after that what follows is asked for anew, as news
const VIEW = uuid(); // this page, from now until it is left
let sending = false;
let failures = 0;
let failing = ""; // what the server says of the newest failure
let single = false; // after a batch that broke the server: one by one, to find which
let timer = 0;
let drawing = false;
let following = null; // what follows from the last send while the server still computes it: { since, done, drop }

/** What is still to come is told to the page, too: until then its figures are those of before. */
function awaits(what) {
  following = what;
  document.getElementById("kept").toggleAttribute("data-behind", Boolean(what));
}

/** Whether a part of the page is being put in place: a cell that goes away then is not left by its user. */
export const isDrawing = () => drawing;

function uuid() {
  if (crypto.randomUUID) return crypto.randomUUID();
  const bytes = crypto.getRandomValues(new Uint8Array(16));
  bytes[6] = (bytes[6] & 15) | 64;
  bytes[8] = (bytes[8] & 63) | 128;
  const hex = [...bytes].map((b) => b.toString(16).padStart(2, "0")).join("");
  return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-${hex.slice(12, 16)}-${hex.slice(16, 20)}-${hex.slice(20)}`;
}

/** Entries not yet known to be saved. */
export const kept = entries;

/** Keep an entry and send it, under the key it was `given` or a new one. Slots ending in ":" get a key of their own. Returns the key. */
export function keep(kind, slot, content, given = null) {
  const key = given ?? uuid();
  add({ key, kind, slot: slot.endsWith(":") ? slot + key : slot, body: content, made_at: new Date().toISOString() });
  if (!["timer", "undo"].includes(kind)) touch(slot);
  show();
  send();
  return key;
}

function touch(slot) {
  try { sessionStorage.setItem(TOUCHED, JSON.stringify([...touched().slice(-40), slot])); } catch { /* undo then reaches less far */ }
}

function touched() {
  try { return JSON.parse(sessionStorage.getItem(TOUCHED) ?? "[]"); } catch { return []; }
}

/** Take back the last entry this page made. */
export function undo() {
  const slots = touched();
  const slot = slots.pop();
  if (!slot) return;
  sessionStorage.setItem(TOUCHED, JSON.stringify(slots));
  keep("undo", slot, {});
}

const clock = (moment) => told(new Date(moment));

/** The line in the head: saved, sending, how many are saved on this device and why, or as of when the page is. */
function show(savedAt) {
  const line = document.getElementById("kept");
  const count = entries().length;
  if (savedAt) line.dataset.savedAt = savedAt;
  if (count) {
    const lost = onlyHere();
    line.dataset.state = failures ? "away" : "sending";
    if (failures && lost) line.textContent = `${lost} only in this page, because this browser’s storage is full: keep the page open${failing ? `: ${failing}` : ""}`;
    else line.textContent = failures ? `${count} saved on this device, will be sent${failing ? `: ${failing}` : ""}` : "sending";
  } else if (failures) {
    line.dataset.state = "away";
    line.textContent = `as of ${clock(body.dataset.drawnAt)}: the server does not answer`;
  } else {
    line.dataset.state = "saved";
    if (line.dataset.savedAt) line.innerHTML = `saved <span class="digits">${clock(line.dataset.savedAt)}</span>`;
    else if (line.dataset.first) line.textContent = line.dataset.first;
  }
}

async function post(batch) {
  const token = document.querySelector("meta[name=csrf-token]");
  return fetch(body.dataset.entriesUrl, {
    method: "POST",
    headers: { "Content-Type": "application/json", "X-CSRFToken": token.content, Accept: "application/x-ndjson" },
    body: JSON.stringify({ page: body.dataset.page, view: VIEW, since: body.dataset.last, store: body.dataset.store, now: new Date().toISOString(), entries: batch }),
  });
}

async function freshToken() {
  const answer = await fetch(body.dataset.tokenUrl, { headers: { Accept: "application/json" } });
  if (answer.ok) document.querySelector("meta[name=csrf-token]").content = (await answer.json()).token;
}

async function reason(answer) {
  try {
    const said = await answer.json();
    return said.what ?? said.error ?? "";
  } catch { return ""; }
}

async function attempt() {
  const batch = entries().slice(0, single ? 1 : MOST);
  if (!batch.length) return;
  let answer = await post(batch);
  if (answer.status === 400) {
    await freshToken();
    answer = await post(batch);
  }
  if (!answer.ok) {
    failing = answer.status === 503 ? "" : await reason(answer);
    // A server that answers but cannot take this: not the others' fault. One alone that cannot be taken is set aside with the reason.
    if (answer.status !== 503 && answer.status !== 409 && answer.status < 600) {
      if (batch.length > 1) single = true;
      else if (failures >= 2) {
        setAside(batch[0], failing || `the server answers ${answer.status}`);
        remove(new Set([batch[0].key]));
        showAside();
      }
    }
    throw new Error(`answer ${answer.status}`);
  }
  const rest = parts(answer);
  const said = await rest.next();
  if (!said) throw new Error("an answer broken off");
  for (const entry of batch) if (entry.key in said.refused) setAside(entry, said.refused[entry.key]);
  remove(new Set([...said.keys, ...Object.keys(said.refused)]));
  failures = 0;
  failing = "";
  showAside();
  show(said.at);
  if (!entries().length) single = false;
  follow(said, rest);
}

/** What follows from entries that are saved comes after them. It never holds up a send: it is let go where it takes long and more is kept. */
function follow(said, rest) {
  if (said.html !== undefined) return apply(said);
  let dropped = false;
  const mine = { since: Date.now(), drop: () => { dropped = true; rest.drop(); } };
  mine.done = rest.next().catch(() => null).then((more) => {
    if (following === mine) awaits(null);
    if (dropped || !more) return apply({ ...said, html: "" });
    const newer = Number(more.last ?? 0) >= Number(body.dataset.last);
    apply({ ...said, ...more, html: newer ? more.html : "", last: newer ? more.last : undefined });
  });
  awaits(mine);
}

/** Until what follows from the last send has come, or was let go. */
async function settled() {
  if (!following) return;
  const late = new Promise((resolve) => { setTimeout(resolve, PATIENCE); });
  await Promise.race([following.done, late]);
  following?.drop();
  awaits(null);
}

export async function send() {
  if (sending) return;
  if (!entries().length) return show();
  sending = true;
  clearTimeout(timer);
  let busy = false;
  try {
    await settled();
    busy = (await alone(attempt)) === "busy";
  } catch {
    failures += 1;
  } finally {
    sending = false;
  }
  show();
  if (failures) timer = setTimeout(send, WAITS[Math.min(failures, WAITS.length) - 1]);
  else if (busy) timer = setTimeout(send, 150); // another tab of this run sends
  else if (entries().length) send();
}

/** What the server could not take stays readable on the page, with the reason, to be corrected or discarded. */
function showAside() {
  const place = document.getElementById("refused");
  place.replaceChildren(...aside().map(({ entry, what }) => {
    const line = document.createElement("p");
    const wrote = entry.body?.text ?? entry.body?.texts?.join("  ") ?? entry.body?.reason ?? entry.body?.formula ?? entry.slot;
    line.textContent = `Not accepted: ${what}. You typed: ${wrote} `;
    const input = document.querySelector(`input[data-slot="${CSS.escape(entry.slot)}"]`);
    if (input && entry.body?.text !== undefined) line.append(button("correct it", () => {
      forget(entry.key);
      setDraft(entry.slot, entry.body.text);
      input.value = entry.body.text;
      input.focus();
      showAside();
    }));
    line.append(button("discard it", () => { forget(entry.key); showAside(); }));
    return line;
  }));
}

function button(words, work) {
  const made = document.createElement("button");
  made.type = "button";
  made.textContent = words;
  made.addEventListener("click", work);
  return made;
}

/** The fragments that differ from what stands on the page: of a hundred cells a reading changes a few, and a swap costs each. */
function onlyChanged(fragments) {
  const fresh = document.createElement("template");
  fresh.innerHTML = fragments;
  for (const piece of [...fresh.content.children]) {
    const here = piece.id && document.getElementById(piece.id);
    const alike = here && here.className.trim() === piece.className.trim() && here.getAttribute("value") === piece.getAttribute("value");
    if (alike && here.innerHTML === piece.innerHTML) piece.remove();
  }
  return fresh.innerHTML.trim();
}

/** What finds the element in focus again when its part of the page is drawn anew. */
function trace(element) {
  if (!element || element === body) return null;
  if (element.id) return `#${CSS.escape(element.id)}`;
  const names = [...element.attributes].filter((a) => a.name.startsWith("data-") && a.name !== "data-count" && a.name !== "data-out");
  const form = element.closest("[id]");
  const own = element.tagName.toLowerCase() + names.map((a) => `[${a.name}="${CSS.escape(a.value)}"]`).join("");
  return names.length ? own : form ? `#${CSS.escape(form.id)} ${own}` : null;
}

/** The parts around an element, from the nearest on, by id. */
function around(element) {
  const ids = [];
  for (let part = element?.closest?.("[id]"); part; part = part.parentElement?.closest("[id]")) ids.push(part.id);
  return ids;
}

/** What had the focus is gone, as a remark that was kept: the next thing to press in the nearest part that is left takes it, else that part. */
function focusNear(ids) {
  const part = ids.map((id) => document.getElementById(id)).find(Boolean);
  if (!part) return;
  const next = part.querySelector("button:not([disabled]), a[href], input:not([type=hidden]), summary");
  if (!next) part.tabIndex = -1;
  (next ?? part).focus({ preventScroll: true });
}

const titles = () => [...document.querySelectorAll("#notes .note h3")].map((h) => h.textContent);

/** Tells who hears the page which readings are saved, and what is remarked on now that was not before. */
function announce(said, before) {
  const cells = Object.keys(said.entries ?? {}).map((slot) => document.querySelector(`input[data-slot="${CSS.escape(slot)}"]`));
  const names = cells.filter((cell) => cell?.getAttribute("aria-label")).map((cell) => `${cell.getAttribute("aria-label")} ${cell.value}`.trim());
  const fresh = titles().filter((title) => !before.includes(title));
  const words = [names.length === 1 ? `saved: ${names[0]}` : names.length ? `${names.length} readings saved` : "", ...fresh].filter(Boolean);
  if (words.length) document.getElementById("said").textContent = words.join(". ");
}

/** Put the fragments of an answer in place, leaving the element in use as it is. */
function apply(said) {
  const active = document.activeElement;
  const path = trace(active);
  const home = around(active);
  const typed = active?.matches?.("input[type=text], textarea");
  const place = typed ? [active.selectionStart, active.selectionEnd, active.value, active.dataset.saved ?? active.defaultValue] : null;
  const before = titles();
  const changed = onlyChanged(said.html ?? "");
  const opened = [...document.querySelectorAll("details[open][id]")].map((part) => part.id);
  drawing = true;
  if (changed) window.htmx.swap(body, changed, { swapStyle: "none" });
  drawing = false;
  for (const id of opened) document.getElementById(id)?.setAttribute("open", "");
  if (path && !body.contains(active)) {
    const again = document.querySelector(path);
    again?.focus({ preventScroll: true });
    if (again && place) {
      if (place[2] !== place[3]) again.value = place[2];
      again.setSelectionRange(place[0], place[1]);
    }
    if (!again) focusNear(home);
  }
  announce(said, before);
  if (said.last !== undefined) body.dataset.last = said.last;
  body.dataset.drawnAt = said.at;
  document.dispatchEvent(new CustomEvent("cavrel:saved", { detail: { entries: {}, others: {}, ...said } }));
}

/** What other pages of this run saved since this one was drawn; a page from the browser's own store learns so that it is old. */
async function news() {
  if (following && Date.now() - following.since > GIVEN_UP) following.drop();
  if (document.hidden || sending || following) return;
  try {
    const query = new URLSearchParams({ since: body.dataset.last, page: body.dataset.page });
    const answer = await fetch(`${body.dataset.newsUrl}?${query}`, { headers: { Accept: "application/json" } });
    if (!answer.ok) throw new Error(`answer ${answer.status}`);
    const said = await answer.json();
    if (said.store !== body.dataset.store) throw new Error("another database");
    const was = failures;
    if (!entries().length) failures = 0;
    if (said.html !== undefined && said.last >= Number(body.dataset.last)) apply(said);
    else body.dataset.drawnAt = said.at;
    if (was) { show(); send(); }
  } catch {
    if (!entries().length) {
      failures += 1;
      show();
    }
  }
}

export function start() {
  const line = document.getElementById("kept");
  line.dataset.first = line.textContent.trim();
  window.addEventListener("online", () => { send(); news(); });
  // What only this page holds goes with it.
  const half = () => document.documentElement.dataset.unkept && [...document.querySelectorAll("#tables input[data-slot]")].some((f) => f.value !== (f.dataset.saved ?? f.defaultValue));
  window.addEventListener("beforeunload", (event) => { if (onlyHere() || half()) event.preventDefault(); });
  // Another page of this run may have sent what this one still shows as kept, or kept what this one may send.
  window.addEventListener("storage", (event) => { if (ours(event.key)) { show(); showAside(); } });
  document.addEventListener("visibilitychange", () => { if (!document.hidden) { send(); news(); } });
  showAside();
  send();
  news();
  setInterval(news, NEWS);
}
