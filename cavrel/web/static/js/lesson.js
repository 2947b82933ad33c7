// The timetable moved by hand: dragged, or by arrow keys. Every move is kept at once; one that is not comes back to where it was, and says so.
const GRID = 5;
const section = () => document.getElementById("timetable");
const benches = () => section().dataset.benches.split("\t");
const token = () => document.querySelector('meta[name="csrf-token"]').content;
let dragged = null;
let sending = Promise.resolve();

async function send(body, focus) {
  const { url } = section().dataset;
  try {
    const answer = await fetch(url, { method: "POST", headers: { "Content-Type": "application/json", "X-CSRFToken": token() }, body: JSON.stringify(body) });
    const text = await answer.text();
    if (answer.ok) {
      const opened = section().querySelector(".as-table")?.open;
      section().outerHTML = text;
      if (opened) section().querySelector(".as-table").open = true;
      document.dispatchEvent(new Event("cavrel:lesson"));
      const clashes = [...section().querySelectorAll(".amiss-list h3, .amiss-list li, .quiet-line")];
      document.getElementById("lesson-said").textContent = clashes.map((line) => line.textContent).join(" ");
    } else say(answer.headers.get("Content-Type")?.includes("json") ? JSON.parse(text).what : "The server could not save this change. Try again in a moment.");
  } catch {
    say("The server does not answer, so this change is not saved. Try again in a moment.");
  }
  if (focus) document.querySelector(`.turn[data-key="${CSS.escape(focus)}"]`)?.focus();
}

function say(what) {
  document.getElementById("not-moved").textContent = what;
  for (const bar of document.querySelectorAll(".turn[data-home]")) bar.setAttribute("transform", bar.dataset.home);
}

/** One after the other: each move is made on what the one before it left. */
function queue(body, focus) {
  sending = sending.then(() => send(body, focus));
}

function move(bar, minutes, rows) {
  const row = Math.min(Math.max(Number(bar.dataset.row) + rows, 0), benches().length - 1);
  const start = Math.max(0, Number(bar.dataset.start) + minutes);
  if (row === Number(bar.dataset.row) && start === Number(bar.dataset.start)) return;
  const bench = benches()[row];
  const key = bar.dataset.key;
  queue({ key, bench, start }, `${bench}/${key.split("/").pop()}`);
}

function scale(svg) {
  // Drawn minutes and rows in pixels of the window.
  const shown = svg.getBoundingClientRect().width / svg.viewBox.baseVal.width;
  return { minute: Number(svg.dataset.scale) * shown, row: Number(svg.dataset.row) * shown, shown };
}

function begin(event) {
  const bar = event.target.closest(".turn");
  if (!bar || event.button) return;
  const svg = bar.ownerSVGElement;
  dragged = { bar, svg, x: event.clientX, y: event.clientY, ...scale(svg) };
  bar.dataset.home = bar.getAttribute("transform");
  try { bar.setPointerCapture(event.pointerId); } catch { /* the events still come */ }
}

function drag(event) {
  if (!dragged) return;
  const { bar, x, y, shown } = dragged;
  const [left, top] = bar.dataset.home.match(/-?[\d.]+/g).map(Number);
  bar.setAttribute("transform", `translate(${left + (event.clientX - x) / shown} ${top + (event.clientY - y) / shown})`);
}

function drop(event) {
  if (!dragged) return;
  const { bar, x, y, minute, row } = dragged;
  dragged = null;
  const minutes = GRID * Math.round((event.clientX - x) / minute / GRID);
  const rows = Math.round((event.clientY - y) / row);
  if (!minutes && !rows) bar.setAttribute("transform", bar.dataset.home);
  else move(bar, minutes, rows);
}

const KEYS = { ArrowLeft: [-GRID, 0], ArrowRight: [GRID, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] };

export function start() {
  const sheet = document.getElementById("sheet");
  sheet.addEventListener("pointerdown", begin);
  sheet.addEventListener("pointermove", drag);
  sheet.addEventListener("pointerup", drop);
  sheet.addEventListener("pointercancel", () => { if (dragged) dragged.bar.setAttribute("transform", dragged.bar.dataset.home); dragged = null; });
  sheet.addEventListener("keydown", (event) => {
    const bar = event.target.closest?.(".turn");
    if (!bar) return;
    if (KEYS[event.key]) {
      event.preventDefault();
      move(bar, ...KEYS[event.key]);
    } else if (event.key === "Delete" || event.key === "Backspace") {
      event.preventDefault();
      queue({ drop: bar.dataset.key });
    }
  });
  sheet.addEventListener("click", (event) => {
    const longer = event.target.closest("[data-longer]");
    if (longer) return queue({ longer: longer.dataset.longer, minutes: GRID }, longer.dataset.longer);
    if (!event.target.closest("[data-put]")) return;
    const form = document.getElementById("put-in");
    queue({ add: { bench: form.elements.bench.value, experiment: form.elements.experiment.value } });
  });
}
