// Forms that are sent whole: what is typed into one is kept in the browser until the server says that it has it.
const place = (form) => `cavrel.form.${form.dataset.draftAt ?? location.pathname}.${form.dataset.draft}`;
const fields = (form) => [...form.elements].filter((f) => f.name && f.type !== "hidden" && f.type !== "submit");

function read(form) {
  return fields(form).map((f) => [f.name, f.type === "checkbox" || f.type === "radio" ? `${f.value}:${f.checked}` : f.multiple ? [...f.selectedOptions].map((o) => o.value) : f.value]);
}

function write(form, kept) {
  const all = fields(form);
  if (kept.length !== all.length || kept.some(([name], i) => all[i].name !== name)) return false; // another form by now
  kept.forEach(([, value], i) => {
    const field = all[i];
    if (field.type === "checkbox" || field.type === "radio") field.checked = value.endsWith(":true");
    else if (field.multiple) for (const option of field.options) option.selected = value.includes(option.value);
    else field.value = value;
  });
  return true;
}

const begun = new WeakSet();
const saved = new URLSearchParams(location.search).get("saved");

/** Bring back what was typed into a form, and keep what will be. */
function begin(form) {
  begun.add(form);
  const here = place(form);
  if (saved === form.dataset.draft) {
    try { localStorage.removeItem(here); } catch { /* nothing was kept */ }
  } else if (!form.querySelector("[role=alert]")) {
    let kept = null;
    try { kept = JSON.parse(localStorage.getItem(here) ?? "null"); } catch { /* nothing to bring back */ }
    if (kept && JSON.stringify(kept) !== JSON.stringify(read(form)) && write(form, kept)) {
      form.closest("details")?.setAttribute("open", "");
      const line = document.createElement("p");
      line.className = "soft small wide";
      line.textContent = "Restored from your last visit, not saved yet. ";
      const drop = document.createElement("button");
      drop.type = "button";
      drop.className = "take";
      drop.textContent = "Forget it";
      drop.addEventListener("click", () => {
        try { localStorage.removeItem(here); } catch { /* it is gone with the page */ }
        form.reset();
        line.remove();
      });
      line.append(drop);
      form.prepend(line);
    }
  }
  const keep = () => { try { localStorage.setItem(here, JSON.stringify(read(form))); } catch { /* the page itself holds it then */ } };
  form.addEventListener("input", (event) => {
    // A number typed next to a choice chooses it.
    const { checks } = event.target.dataset;
    if (checks) event.target.closest("fieldset").querySelector(`input[type=radio][value="${checks}"]`).checked = true;
    keep();
  });
  form.addEventListener("change", keep);
}

function beginAll() {
  for (const form of document.querySelectorAll("form[data-draft]")) if (!begun.has(form)) begin(form);
}

export function start() {
  for (const { dataset } of document.querySelectorAll("[data-draft-done]")) {
    try { localStorage.removeItem(`cavrel.form.${dataset.draftDone}`); } catch { /* nothing was kept */ }
  }
  for (const field of document.querySelectorAll("[data-own-zone]")) field.value ||= Intl.DateTimeFormat().resolvedOptions().timeZone ?? "";
  beginAll();
  // Typed into a form that was drawn anew a moment ago: what was kept comes back first, and this stands in its field.
  document.addEventListener("input", ({ target }) => {
    const form = target.closest?.("form[data-draft]");
    if (!form || begun.has(form)) return;
    const { value, checked } = target;
    begin(form);
    if ("checked" in target) target.checked = checked;
    if (target.type !== "checkbox" && target.type !== "radio" && !target.multiple) target.value = value;
  }, true);
  document.addEventListener("cavrel:saved", beginAll); // what another device saved may have drawn a form anew
  if (saved) history.replaceState(null, "", location.pathname + location.hash);
}
