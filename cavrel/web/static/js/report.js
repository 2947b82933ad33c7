// The report: a part that is left is an entry; a draft is taken as it stands; a part half written survives saves, reloads and crashes.
import { keep } from "./keep.js";
import { drafts, endDraft } from "./shelved.js";

const box = (slot) => document.querySelector(`.report-words[data-slot="${CSS.escape(slot)}"]`);

function commit(area) {
  const { slot } = area.dataset;
  const text = area.value.trim();
  const key = endDraft(slot, text);
  if (text === (area.dataset.saved ?? area.defaultValue).trim()) return;
  area.dataset.saved = text;
  keep("report", slot, { text }, key);
}

export function startReport() {
  const sheet = document.getElementById("sheet");
  sheet.addEventListener("focusout", (event) => { if (event.target.matches?.(".report-words")) commit(event.target); });
  sheet.addEventListener("click", (event) => {
    const { takeDraft, backToDraft, print } = event.target.closest("button")?.dataset ?? {};
    if (takeDraft) keep("report", `report:${takeDraft}`, { text: box(`report:${takeDraft}`).dataset.draftText.trim() });
    else if (backToDraft) keep("report", `report:${backToDraft}`, { text: "" });
    else if (print !== undefined) window.print();
  });
  for (const [slot, text] of drafts()) {
    const area = box(slot);
    if (!area || area.value === text) continue;
    area.value = text;
    area.closest("details").open = true;
    commit(area);
  }
}
