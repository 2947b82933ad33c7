// From the first moment of the page, before any module runs: what is half typed in a cell is kept in the browser, with the key that its
// entry will have, so that neither a page that goes away nor one that comes back loses it or keeps it twice. A page whose scripts did not
// come, for the network went, says that it keeps what is typed, and loads itself again.
const AGAIN = 8000;
let typedAt = -Infinity;
const ready = () => document.documentElement.dataset.ready === "yes";
const place = (input) => `cavrel.draft.${document.body.dataset.store}.${document.body.dataset.run}.${input.dataset.slot}`;
const isCell = (target) => target.matches?.("#tables input[data-slot], .planned[data-slot], .planned-words[data-slot]");

document.addEventListener("input", (event) => {
  if (!isCell(event.target)) return;
  const key = window.crypto?.randomUUID?.() ?? null;
  typedAt = performance.now();
  try {
    localStorage.setItem(place(event.target), JSON.stringify({ text: event.target.value, key }));
    delete document.documentElement.dataset.unkept;
  } catch { document.documentElement.dataset.unkept = "yes"; } // the page itself holds it then, and asks before it goes
  const line = document.getElementById("kept");
  if (ready() || !line) return;
  line.dataset.state = "sending";
  line.textContent = "saved on this device until the page is ready";
});

// A cell left before the scripts are there is no longer half typed.
document.addEventListener("change", (event) => {
  if (ready() || !isCell(event.target)) return;
  try {
    const draft = JSON.parse(localStorage.getItem(place(event.target)) ?? "null");
    if (draft) localStorage.setItem(place(event.target), JSON.stringify({ ...draft, left: true }));
  } catch { /* as above */ }
});

// Scripts that are on their way are waited for; those that failed are asked for anew, less and less often, and never while somebody types or
// what was typed stands in this page alone.
const TRIED = "cavrel.again";
let failed = false;
window.addEventListener("error", (event) => { if (event.target instanceof HTMLScriptElement) failed = true; }, true);
window.addEventListener("unhandledrejection", () => { failed = true; });

function tried() {
  try { return Number(sessionStorage.getItem(TRIED)) || 0; } catch { return 0; }
}

const busy = () => performance.now() - typedAt < AGAIN || document.documentElement.dataset.unkept;

async function loadAgain() {
  if (ready() || busy() || !failed) return;
  try {
    if (!(await fetch(location.href, { method: "HEAD", cache: "no-store" })).ok || ready() || busy()) return;
    try { sessionStorage.setItem(TRIED, String(Math.min(tried() + 1, 5))); } catch { /* as often as at first */ }
    location.reload();
  } catch { /* still away */ }
}

function look() {
  if (ready()) {
    try { sessionStorage.removeItem(TRIED); } catch { /* it was never there */ }
    return;
  }
  loadAgain();
  setTimeout(look, AGAIN);
}
window.addEventListener("online", loadAgain);
setTimeout(look, AGAIN * 2 ** tried());
