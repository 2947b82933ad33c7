// The queue between a page and the logbook. An entry is kept in the browser first and sent at once; it leaves the queue only when the
// server says that it is committed. Sent twice, it counts once: each carries its own key.
const body = document.body;
const QUEUE = `cavrel.kept.${body.dataset.run}`;
const TOUCHED = `cavrel.touched.${body.dataset.run}`;
const WAITS = [1000, 2000, 4000, 8000];
let memory = [];
let sending = false;
let failures = 0;
let timer = 0;

function stored() {
  try { return JSON.parse(localStorage.getItem(QUEUE) ?? "[]"); } catch { return memory; }
}

function store(queue) {
  memory = queue;
  try {
    if (queue.length) localStorage.setItem(QUEUE, JSON.stringify(queue));
    else localStorage.removeItem(QUEUE);
  } catch { /* full or forbidden: the page itself still keeps them */ }
}

function uuid() {
  if (crypto.randomUUID) return crypto.randomUUID();
  const bytes = crypto.getRandomValues(new Uint8Array(16));
  bytes[6] = (bytes[6] & 15) | 64;
  bytes[8] = (bytes[8] & 63) | 128;
  const hex = [...bytes].map((b) => b.toString(16).padStart(2, "0")).join("");
  return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-${hex.slice(12, 16)}-${hex.slice(16, 20)}-${hex.slice(20)}`;
}

/** Entries not yet known to be saved. */
export const kept = stored;

/** Keep an entry and send it. Slots ending in ":" get a key of their own. Returns the entry's key. */
export function keep(kind, slot, content) {
  const key = uuid();
  const entry = { key, kind, slot: slot.endsWith(":") ? slot + key : slot, body: content, made_at: new Date().toISOString() };
  store([...stored(), entry]);
  if (!["timer", "undo"].includes(kind)) touch(entry.slot);
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

function clock(moment) {
  return new Date(moment).toLocaleTimeString("en-GB");
}

/** The line in the head: saved, sending, or how many are kept here. */
function show(savedAt) {
  const line = document.getElementById("kept");
  const count = stored().length;
  if (savedAt) line.dataset.savedAt = savedAt;
  if (count === 0) {
    line.dataset.state = "saved";
    if (line.dataset.savedAt) line.innerHTML = `saved <span class="digits">${clock(line.dataset.savedAt)}</span>`;
  } else if (failures) {
    line.dataset.state = "away";
    line.textContent = `${count} kept here, sending again`;
  } else {
    line.dataset.state = "sending";
    line.textContent = "sending";
  }
}

async function post(entries) {
  const token = document.querySelector("meta[name=csrf-token]");
  return fetch(body.dataset.entriesUrl, {
    method: "POST",
    headers: { "Content-Type": "application/json", "X-CSRFToken": token.content },
    body: JSON.stringify({ page: body.dataset.page, entries }),
  });
}

async function freshToken() {
  const answer = await fetch(body.dataset.tokenUrl, { headers: { Accept: "application/json" } });
  if (answer.ok) document.querySelector("meta[name=csrf-token]").content = (await answer.json()).token;
}

export async function send() {
  if (sending) return;
  const batch = stored().slice(0, 200);
  if (!batch.length) return show();
  sending = true;
  clearTimeout(timer);
  try {
    let answer = await post(batch);
    if (answer.status === 400) {
      await freshToken();
      answer = await post(batch);
    }
    if (!answer.ok) throw new Error(`answer ${answer.status}`);
    const said = JSON.parse(answer.headers.get("X-Cavrel-Saved"));
    const fragments = await answer.text();
    const done = new Set([...said.keys, ...Object.keys(said.refused)]);
    store(stored().filter((e) => !done.has(e.key)));
    failures = 0;
    refuse(batch, said.refused);
    apply(fragments, said);
    show(said.at);
  } catch {
    failures += 1;
    timer = setTimeout(send, WAITS[Math.min(failures, WAITS.length) - 1]);
    show();
  } finally {
    sending = false;
  }
  if (stored().length && !failures) send();
}

/** What the server could not take stays readable on the page, with the reason. */
function refuse(batch, refused) {
  const place = document.getElementById("refused");
  for (const [key, what] of Object.entries(refused)) {
    const entry = batch.find((e) => e.key === key);
    const line = document.createElement("p");
    line.textContent = `Not taken: ${what}. What you wrote: ${entry?.body?.text ?? entry?.body?.reason ?? entry?.slot}`;
    place.append(line);
  }
}

/** The fragments that differ from what stands on the page: of a hundred cells a reading changes a few, and a swap costs each. */
function onlyChanged(fragments) {
  const fresh = document.createElement("template");
  fresh.innerHTML = fragments;
  for (const piece of [...fresh.content.children]) {
    const here = piece.id && document.getElementById(piece.id);
    if (here && here.className.trim() === piece.className.trim() && here.innerHTML === piece.innerHTML) piece.remove();
  }
  return fresh.innerHTML.trim();
}

/** Put the fragments of an answer in place, leaving the cell in use as it is. */
function apply(fragments, said) {
  const active = document.activeElement;
  const slot = active?.dataset?.slot && active.tagName === "INPUT" ? active.dataset.slot : null;
  const place = slot ? [active.selectionStart, active.selectionEnd, active.value, active.dataset.saved] : null;
  const changed = onlyChanged(fragments);
  if (changed) window.htmx.swap(body, changed, { swapStyle: "none" });
  if (slot && !document.body.contains(active)) {
    const again = document.querySelector(`input[data-slot="${CSS.escape(slot)}"]`);
    if (again) {
      again.focus({ preventScroll: true });
      if (place[2] !== place[3]) again.value = place[2];
      again.setSelectionRange(place[0], place[1]);
    }
  }
  document.dispatchEvent(new CustomEvent("cavrel:saved", { detail: said }));
}

export function start() {
  window.addEventListener("online", send);
  // Another page of this bench may have sent what this one still shows as kept.
  window.addEventListener("storage", (event) => { if (event.key === QUEUE) show(); });
  document.addEventListener("visibilitychange", () => { if (!document.hidden) send(); });
  send();
}
