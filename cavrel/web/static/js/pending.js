// What this browser holds for a run until the server has it: one record for each entry and each half-typed cell, so that two tabs never
// write over each other's. Everything belongs to one database (its identity) and one run, not to an address.
const body = document.body;
const HOME = `${body.dataset.store}.${body.dataset.run}`;
const ENTRY = `cavrel.entry.${HOME}.`;
const ASIDE = `cavrel.aside.${HOME}.`;
const DRAFT = `cavrel.draft.${HOME}.`;
const memory = new Map(); // what the browser's store refuses stays in the page
const COUNT = `cavrel.count.${HOME}`;
let count = 0;

function put(key, value) {
  const text = JSON.stringify(value);
  try {
    localStorage.setItem(key, text);
    memory.delete(key);
  } catch {
    memory.set(key, text);
  }
}

/** How many entries stand in this page alone, for the browser's store is full or closed: they go with it. */
export function onlyHere() {
  return [...memory.keys()].filter((key) => key.startsWith(ENTRY)).length;
}

function drop(key) {
  memory.delete(key);
  try { localStorage.removeItem(key); } catch { /* it was never there */ }
}

function all(prefix) {
  const found = new Map(memory);
  try {
    for (let i = 0; i < localStorage.length; i += 1) {
      const key = localStorage.key(i);
      if (key.startsWith(prefix)) found.set(key, localStorage.getItem(key));
    }
  } catch { /* the page's own memory then */ }
  const records = [];
  for (const [key, text] of found) {
    if (!key.startsWith(prefix) || !text) continue;
    try { records.push([key.slice(prefix.length), JSON.parse(text)]); } catch { /* half a record of a browser that died: nobody can read it */ }
  }
  return records;
}

/** Entries not yet known to be saved, in the order they were made. */
export function entries() {
  return all(ENTRY).sort(([a], [b]) => (a < b ? -1 : 1)).map(([, entry]) => entry);
}

/** A number above every one that was given here before, in any tab: a clock can be set back, a count only grows. */
function next() {
  let known = count;
  try { known = Math.max(known, Number(localStorage.getItem(COUNT)) || 0); } catch { /* the page's own count then */ }
  for (const [name] of all(ENTRY)) known = Math.max(known, Number(name.split(".")[0]) || 0);
  count = known + 1;
  try { localStorage.setItem(COUNT, String(count)); } catch { /* as above */ }
  return String(count).padStart(15, "0");
}

export function add(entry) {
  put(`${ENTRY}${next()}.${entry.key}`, entry);
}

export function remove(keys) {
  for (const [name, entry] of all(ENTRY)) if (keys.has(entry.key)) drop(ENTRY + name);
}

/** Entries the server could not take, with the reason, until somebody mends or drops them. */
export function aside() {
  return all(ASIDE).map(([, record]) => record);
}

export function setAside(entry, what) {
  put(ASIDE + entry.key, { entry, what });
}

export function forget(key) {
  drop(ASIDE + key);
}

/** Half-typed cells as [slot, text, whether they were left since]; they are kept as they are typed, by early.js. */
export function drafts() {
  return all(DRAFT).map(([slot, draft]) => [slot, draft.text ?? "", draft.left ?? false]);
}

/** The key that the entry of a half-typed cell is to have, if `text` is what was typed; the draft is done with. */
export function endDraft(slot, text) {
  const draft = all(DRAFT).find(([name]) => name === slot)?.[1];
  drop(DRAFT + slot);
  return draft?.text?.trim() === text ? draft.key : null;
}

/** Put a text back into a cell as half typed. */
export function setDraft(slot, text) {
  put(DRAFT + slot, { text, key: null });
}

/** Whether a storage event speaks of this run. */
export const ours = (key) => key === null || key.includes(`.${HOME}.`);

/** Run `work` while no other tab of this run does. */
export async function alone(work) {
  if (!navigator.locks) return work();
  return navigator.locks.request(`cavrel.send.${HOME}`, { ifAvailable: true }, (lock) => (lock ? work() : "busy"));
}
