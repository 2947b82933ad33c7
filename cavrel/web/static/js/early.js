// From the first moment of the page, before any module runs: what is half typed in a cell is kept in the browser, with the key that its
// entry will have, so that neither a page that goes away nor one that comes back loses it or keeps it twice.
document.addEventListener("input", (event) => {
  const input = event.target;
  if (!input.matches?.("#tables input[data-slot]")) return;
  const { store, run } = document.body.dataset;
  const key = window.crypto?.randomUUID?.() ?? null;
  try {
    localStorage.setItem(`cavrel.draft.${store}.${run}.${input.dataset.slot}`, JSON.stringify({ text: input.value, key }));
  } catch { /* the page itself holds it then */ }
});
