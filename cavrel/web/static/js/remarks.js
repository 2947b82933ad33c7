// On a narrow page a remark stands under the row it is about and opens by a tap; remarks about no row stay in the margin.
const narrow = matchMedia("(max-width: 900px)");
const unfolded = new Set(); // remarks that somebody opened, by the id of their note

function rowOf(at) {
  const slot = CSS.escape(at);
  const row = document.querySelector(`#tables tr[data-at="${slot}"]`);
  return row ?? document.querySelector(`#tables input[data-slot="${slot}"], #tables input[data-slot="${slot}.1"]`)?.closest("tr[data-at]");
}

function remark(note) {
  const part = document.createElement("details");
  part.className = note.className;
  part.classList.remove("at-row", "lit");
  part.dataset.note = note.id;
  part.open = unfolded.has(note.id);
  const [title, ...rest] = note.cloneNode(true).querySelectorAll(":scope > *");
  const summary = document.createElement("summary");
  summary.textContent = title.textContent;
  part.append(summary, ...rest);
  part.addEventListener("toggle", () => unfolded[part.open ? "add" : "delete"](note.id));
  return part;
}

/** Put each remark about a row under it. */
function place() {
  const held = document.activeElement?.closest?.(".remark-row")?.dataset.under;
  for (const row of document.querySelectorAll(".remark-row")) row.remove();
  for (const note of document.querySelectorAll("#notes .note")) {
    const row = narrow.matches && note.id && note.dataset.at ? rowOf(note.dataset.at) : null;
    note.classList.toggle("at-row", Boolean(row));
    if (!row) continue;
    let under = row.nextElementSibling;
    if (!under?.matches(".remark-row")) {
      under = document.createElement("tr");
      under.className = "remark-row";
      under.dataset.under = row.dataset.at;
      const all = document.createElement("td");
      all.colSpan = row.cells.length;
      under.append(all);
      row.after(under);
    }
    under.firstElementChild.append(remark(note));
  }
  if (held && document.activeElement === document.body) {
    document.querySelector(`tr[data-at="${CSS.escape(held)}"] .no button`)?.focus({ preventScroll: true });
  }
}

export function start() {
  place();
  document.addEventListener("cavrel:saved", place);
  narrow.addEventListener("change", place);
}
