// The margin: a note lights up its cell or point, and the other way round; what a note offers is done here.
import { ask, start as startAsk } from "./ask.js";
import { keep, kept } from "./keep.js";

export const REASONS = ["miscounted", "failed trial", "read the wrong scale", "apparatus moved"];
const CORRECTIONS = ["typing error", "read again", "wrong lap", "wrong cell"];

function place(at) {
  const slot = CSS.escape(at);
  return document.querySelector(`input[data-slot="${slot}"], input[data-slot="${slot}.1"], .pt[data-at="${slot}"], tr[data-at="${slot}"]`)
    ?? document.querySelector(`.pt[data-at="${CSS.escape(at.split(".").filter((_, i) => i !== 1).slice(0, 2).join("."))}"]`);
}

function light(element) {
  for (const lit of document.querySelectorAll(".lit")) lit.classList.remove("lit");
  (element?.closest?.("td.cell, .quantity .cell, tr[data-at]") ?? element)?.classList.add("lit");
}

/** Leave a reading, a row or a point out, with a reason. */
export function leaveOut(slot) {
  const parts = slot.split(".");
  const what = parts[0] === "quantities" ? `reading ${parts[2]}` : parts.length === 2 ? `row ${parts[1]}` : `row ${parts[2]}, trial ${parts[3]}`;
  ask(`Why leave out ${what}?`, REASONS, (reason) => keep("leave-out", `out:${slot}`, { reason }));
}

/** Leave several rows out for one reason. */
function leaveOutAll(slots) {
  const reasons = ["outside the straight part", "another law holds there", ...REASONS.slice(-1)];
  ask(`Why leave out ${slots.length === 1 ? "this point" : `these ${slots.length} points`}?`, reasons, (reason) => {
    for (const slot of slots) keep("leave-out", `out:${slot}`, { reason });
  });
}

export function takeBack(slot) {
  keep("take-back", `out:${slot}`, {});
}

/** Write a note into the logbook. */
export function writeNote() {
  ask("A note for the logbook", [], (text) => keep("note", "note:", { text }));
}

function giveReason(slot) {
  const input = document.querySelector(`input[data-slot="${CSS.escape(slot)}"]`);
  ask("Why was it corrected?", CORRECTIONS, (reason) => {
    keep("correction", slot, { text: input?.value ?? "", reason, over: Number(input?.dataset.entry) || null });
  });
}

/** A whole column in another unit or by a factor, or stretches of samples: each an entry of its own with the same reason. */
function convert({ writes, stretches, reason }) {
  for (const { slot, text, was, over } of writes ?? []) keep("correction", slot, { text, was, reason, over });
  for (const { slot, begin, end } of stretches ?? []) keep("stretch", slot, { begin, end, reason });
}

/** A reading is taken again: go to its cell, with a new trial where it has trials. */
function readAgain({ slot, writes, page }) {
  if (writes) {
    const { slot: ruled, count } = JSON.parse(writes);
    keep("trials", ruled, { count });
  }
  const go = () => { location.href = `${page}#i-${slot.replaceAll(".", "-")}`; };
  if (!kept().length) return go();
  document.addEventListener("cavrel:saved", go, { once: true });
}

/** Of two readings that crossed, one holds; the other stays in the logbook. */
function settle(slot, { text, was, over }, taken) {
  if (taken) keep("correction", slot, { text, was, reason: "the earlier reading holds; it came late", over });
  keep("late", `late:${slot}`, { text, settled: true });
}

/** Values that the experiment suggests become readings, for a person pressed for it. */
function takeSuggested(texts) {
  for (const [slot, text] of Object.entries(texts)) {
    const input = document.querySelector(`input[data-slot="${CSS.escape(slot)}"]`);
    if (input?.value.trim()) continue;
    if (input) input.value = input.dataset.saved = text;
    keep("reading", slot, { text });
  }
}

/** A person says what a reading was; nothing is written that nobody typed. */
function misread(button) {
  const input = button.parentElement.querySelector("input");
  const text = input.value.trim();
  if (!text) return input.focus();
  const { slot, was, over } = JSON.parse(button.dataset.writes);
  keep("correction", slot, { text, was, reason: "misread", over });
}

function act(button) {
  const { act: what, slot, seen } = button.dataset;
  if (what === "go") {
    const target = place(slot);
    target?.scrollIntoView({ block: "center" });
    target?.focus();
    target?.select?.();
    light(target);
  } else if (what === "leave-out") leaveOut(slot);
  else if (what === "leave-out-all") leaveOutAll(slot.split(" "));
  else if (what === "take-back") takeBack(slot);
  else if (what === "stands") keep("stands", `stands:${slot}`, { seen: seen ?? "" });
  else if (what === "reason") giveReason(slot);
  else if (what === "tick") keep("tick", `tick:${slot}`, { done: true });
  else if (what === "convert") convert(JSON.parse(button.dataset.writes));
  else if (what === "again") readAgain(button.dataset);
  else if (what === "misread") misread(button);
  else if (what === "take-suggested") takeSuggested(JSON.parse(seen));
  else if (what === "undo-all") for (const one of slot.split(" ")) keep("undo", one, {});
  else if (what === "choose") keep("option", slot, { choice: JSON.parse(button.dataset.writes) });
  else if (what === "heading") keep("heading", slot, JSON.parse(button.dataset.writes));
  else if (what === "late-drop" || what === "late-take") settle(slot, JSON.parse(seen), what === "late-take");
  else if (what === "undo") keep("undo", slot, {});
}

/** The cells a place means: one, all readings of a quantity, or the first of a row. */
function cellsOf(at) {
  const slot = CSS.escape(at);
  const own = document.querySelectorAll(`input[data-slot="${slot}"], input[data-slot^="${at.startsWith("quantities.") ? slot : "-"}."]`);
  return own.length ? own : [...document.querySelectorAll(`tr[data-at="${slot}"] input[data-slot]`)].slice(0, 1);
}

/** A cell that is suspected is marked so, and one that a note speaks of is described by that note. */
export function describe() {
  for (const input of document.querySelectorAll("#tables input[data-slot]")) {
    if (input.closest(".cell").querySelector(".sign.suspect")) input.setAttribute("aria-invalid", "true");
    else input.removeAttribute("aria-invalid");
    input.removeAttribute("aria-describedby");
  }
  for (const note of document.querySelectorAll("#notes .note[data-at][id]")) {
    for (const input of cellsOf(note.dataset.at)) {
      input.setAttribute("aria-describedby", `${input.getAttribute("aria-describedby") ?? ""} ${note.id}`.trim());
    }
  }
}

export function start() {
  startAsk();
  describe();
  document.addEventListener("cavrel:saved", describe);
  document.addEventListener("click", (event) => {
    const button = event.target.closest("[data-act]");
    if (button) return act(button);
    const note = event.target.closest(".note[data-at]");
    if (note) {
      const target = place(note.dataset.at);
      target?.scrollIntoView({ block: "nearest" });
      light(target);
      note.classList.add("lit");
      return;
    }
    const point = event.target.closest(".pt[data-at]");
    if (point && document.body.dataset.page.startsWith("fit")) return choose(point);
    const row = event.target.closest("[data-row]");
    if (row) (row.dataset.out === "yes" ? takeBack : leaveOut)(row.dataset.row);
  });
  document.addEventListener("change", (event) => {
    const { tick } = event.target.dataset ?? {};
    if (tick) keep("tick", `tick:${tick}`, { done: event.target.checked });
  });
  document.addEventListener("focusin", (event) => {
    const slot = event.target.dataset?.slot ?? event.target.dataset?.at;
    for (const lit of document.querySelectorAll(".note.lit")) lit.classList.remove("lit");
    if (!slot || event.target.closest(".note")) return;
    for (const note of document.querySelectorAll(`.note[data-at="${CSS.escape(slot)}"]`)) note.classList.add("lit");
  });
}

/** A point pressed: leave it out, or take it back. */
export function choose(point) {
  (point.dataset.state === "out" ? takeBack : leaveOut)(point.dataset.at);
}
