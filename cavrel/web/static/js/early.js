// From the first moment of the page, before any module runs: what is half typed in a cell is kept in the browser, with the key that its
// entry will have, so that neither a page that goes away nor one that comes back loses it or keeps it twice. A page whose scripts did not
// come, for the network went, says that it keeps what is typed, and loads itself again.
const AGAIN = 8000;
const ready = () => document.documentElement.dataset.ready === "yes";
const place = (input) => `cavrel.draft.${document.body.dataset.store}.${document.body.dataset.run}.${input.dataset.slot}`;
const isCell = (target) => target.matches?.("#tables input[data-slot], .planned[data-slot], .planned-words[data-slot]");

document.addEventListener("input", (event) => {
  if (!isCell(event.target)) return;
  const key = window.crypto?.randomUUID?.() ?? null;
  try { localStorage.setItem(place(event.target), JSON.stringify({ text: event.target.value, key })); } catch { /* the page itself holds it then */ }
  const line = document.getElementById("kept");
  if (ready() || !line) return;
  line.dataset.state = "sending";
  line.textContent = "kept here until the page is ready";
});

// A cell left before the scripts are there is no longer half typed.
document.addEventListener("change", (event) => {
  if (ready() || !isCell(event.target)) return;
  try {
    const draft = JSON.parse(localStorage.getItem(place(event.target)) ?? "null");
    if (draft) localStorage.setItem(place(event.target), JSON.stringify({ ...draft, left: true }));
  } catch { /* as above */ }
});

async function loadAgain() {
  if (ready()) return;
  try {
    if ((await fetch(location.href, { method: "HEAD", cache: "no-store" })).ok && !ready()) location.reload();
  } catch { /* still away */ }
}
window.addEventListener("online", loadAgain);
setInterval(loadAgain, AGAIN);
