// The form that starts a run: what is chosen while a convention is on its way is not lost when the page is drawn by it.
let held = new Map();

const fields = () => [...(document.getElementById("start")?.elements ?? [])].filter((f) => f.name && !["hidden", "submit", "file"].includes(f.type) && !f.name.startsWith("option-"));

export function start() {
  document.addEventListener("htmx:beforeSwap", () => {
    held = new Map(fields().map((f) => [f.name, f.type === "checkbox" ? f.checked : f.value]));
  });
  document.addEventListener("htmx:afterSwap", () => {
    for (const field of fields()) {
      if (!held.has(field.name)) continue;
      if (field.type === "checkbox") field.checked = held.get(field.name);
      else field.value = held.get(field.name);
    }
  });
}
