// The report and its marking: a text that is left is an entry, so are points; a draft is taken as it stands; what is half written survives
// saves, reloads and crashes.
import { ask } from "./ask.js";
import { keep, kept } from "./keep.js";
import { drafts, endDraft } from "./pending.js";

const box = (slot) => document.querySelector(`.report-words[data-slot="${CSS.escape(slot)}"]`);
const kind = (slot) => (slot.startsWith("marking:") ? "marking" : "report");

function commit(area) {
  const { slot } = area.dataset;
  const text = area.value.trim();
  const key = endDraft(slot, text);
  if (text === (area.dataset.saved ?? area.defaultValue).trim()) return;
  area.dataset.saved = text;
  keep(kind(slot), slot, { text }, key);
}

/** Put a text where it belongs; whether that changed anything. */
function show(slot, text) {
  const area = box(slot);
  if (!area || text === undefined || area.value === text) return false;
  area.value = text;
  area.closest("details").open = true;
  return true;
}

/** Points as they are typed: a number within its bounds, or nothing where they are taken back; anything else is said and not kept. */
function score(input) {
  const text = input.value.trim().replace(",", ".");
  const points = text === "" ? null : Number(text);
  const most = Number(input.dataset.most) || 1000;
  const fault = points === null ? "" : !Number.isFinite(points) ? "not a number" : points < 0 ? "not below 0" : points > most ? `at most ${most}` : "";
  input.setAttribute("aria-invalid", String(fault !== ""));
  const said = input.closest("label")?.querySelector(".fault");
  if (said) said.textContent = fault ? `${fault}: not saved` : "";
  if (!fault) keep("marking", input.dataset.points, { points });
}

/** Marks are returned to the bench; changed ones with a reason. */
function giveBack({ give, on, why }) {
  if (why) ask("Why were the marks changed?", ["counted wrongly", "marked again", "after talking with the bench"], (reason) => keep("marking", give, { on: true, reason }));
  else keep("marking", give, { on: on === "yes" });
}

export function startReport() {
  document.addEventListener("focusout", (event) => { if (event.target.matches?.(".report-words")) commit(event.target); });
  document.addEventListener("change", (event) => { if (event.target.matches?.("[data-points]")) score(event.target); });
  document.addEventListener("click", (event) => {
    const { takeDraft, backToDraft, give, on, why } = event.target.closest("button")?.dataset ?? {};
    if (takeDraft) keep("report", `report:${takeDraft}`, { text: box(`report:${takeDraft}`).dataset.draftText.trim() });
    else if (backToDraft) keep("report", `report:${backToDraft}`, { text: "" });
    else if (give) giveBack({ give, on, why });
  });
  // What was typed last is saved, and stands on the page, before the whole is submitted.
  document.addEventListener("submit", (event) => {
    if (!event.target.matches?.(".signing")) return;
    document.activeElement?.blur?.();
    if (!kept().length && !document.getElementById("kept").hasAttribute("data-behind")) return;
    event.preventDefault();
    const form = event.target;
    document.addEventListener("cavrel:saved", () => form.requestSubmit(), { once: true });
  });
  // What an earlier page kept and could not send yet stands in its place before the server knows of it.
  for (const { slot, body } of kept()) if (show(slot, body.text)) box(slot).dataset.saved = body.text;
  for (const [slot, text] of drafts()) if (show(slot, text)) commit(box(slot));
}
