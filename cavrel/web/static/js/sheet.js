// The table: typing, moving, and keeping each reading the moment its cell is left.
import { ask } from "./ask.js";
import { isDrawing, keep, kept } from "./keep.js";
import { drafts, endDraft, ours } from "./pending.js";
import { stepped } from "./stepping.js";

let conventionChanged = false;

export function cell(slot) {
  return document.querySelector(`input[data-slot="${CSS.escape(slot)}"]`);
}

/** Keep what a cell holds, if it changed. `more` goes into the entry, such as the timing that filled it. */
export function commit(input, more = {}) {
  const text = input.value.trim();
  const key = endDraft(input.dataset.slot, text);
  if (text === input.dataset.saved) return null;
  const over = Number(input.dataset.entry) || null;
  input.dataset.saved = text;
  input.dataset.kept = "yes";
  if (input.dataset.slot.startsWith("mark:")) return keep("mark", input.dataset.slot, { text }, key);
  return keep("reading", input.dataset.slot, { text, over, ...more }, key);
}

/** The rows of a table that hold readings; between them stand those that hold remarks. */
const rowsOf = (table) => [...table.tBodies[0].rows].filter((row) => row.dataset.at);

/** The cells of one table as rows of inputs. */
function rows(table) {
  return rowsOf(table).map((row) => [...row.querySelectorAll("input[data-slot]")]);
}

const WAY = "cavrel.next";
const root = document.documentElement;

function down(input, step) {
  const table = input.closest("table");
  if (!table) return onward(input, step);
  const grid = rows(table);
  const y = grid.findIndex((row) => row.includes(input));
  const x = grid[y].indexOf(input);
  const target = grid[y + step]?.[x] ?? (step > 0 ? grid[0][x + 1] : grid[grid.length - 1][x - 1]);
  if (target && (step < 0 || grid[y + step]?.[x] || !target.value.trim())) enter(target);
  else onward(input, step);
}

/** Enter, and "next" on a phone's keyboard: down the column or along the row, as this browser chose. */
function onEnter(input, step) {
  if (root.dataset.next === "row" && input.closest("table")) along(input, step);
  else down(input, step);
}

/** The next cell of the row, at its end the first that is empty in the next one. */
function along(input, step) {
  const grid = rows(input.closest("table"));
  const y = grid.findIndex((row) => row.includes(input));
  const row = grid[y];
  const following = row[row.indexOf(input) + step];
  if (following) return enter(following);
  const next = grid[y + step];
  if (!next) return onward(input, step);
  enter(step > 0 ? (next.find((i) => !i.value.trim() && wanted(i)) ?? next[0]) : next.at(-1));
}

function chooseWay() {
  root.dataset.next = root.dataset.next === "row" ? "column" : "row";
  try { localStorage.setItem(WAY, root.dataset.next); } catch { /* the choice then lasts as long as the page */ }
}

/** Whether a cell is to be typed: a word that a rule gives is not. */
const wanted = (input) => !input.closest("[data-by-rule]");

const everyCell = () => [...document.querySelectorAll("#tables input[data-slot]")];

/** On to what is missing next, in the order of the page: between fields, tables and back to the gaps before. */
function onward(input, step) {
  const all = everyCell();
  const at = all.indexOf(input);
  if (step < 0) return all[at - 1] ? enter(all[at - 1]) : input.blur();
  const empty = (i) => !i.value.trim() && i !== input && !i.placeholder && wanted(i);
  const target = all.slice(at + 1).find(empty) ?? all.find(empty);
  if (target) enter(target);
  else input.blur();
}

/** Tab goes from cell to cell in the order of typing; what stands between them (row numbers, links) comes after. */
function sideways(input, step) {
  const all = everyCell();
  const target = all[all.indexOf(input) + step];
  if (target) enter(target);
  return Boolean(target);
}

export function enter(input) {
  if (input.closest(".later")) root.dataset.trials = "all";
  input.focus();
  input.select();
}

/** The next cell after `input` that a timing may fill: on along the row, then the next row. */
export function nextFor(input, fills) {
  const all = fillable(fills);
  const at = all.indexOf(input);
  return all.slice(at + 1).find((i) => !i.value.trim()) ?? null;
}

/** Cells that belong to the columns in `fills`, row by row. */
export function fillable(fills) {
  return [...document.querySelectorAll("#tables input[data-slot]")].filter((i) => {
    const [table, name] = i.dataset.slot.split(".");
    return fills.includes(table === "quantities" ? name : `${table}.${name}`);
  });
}

/** Show what is saved on this device but not yet in the page the server drew. */
function overlay() {
  for (const entry of kept()) {
    const input = ["reading", "correction", "mark"].includes(entry.kind) ? cell(entry.slot) : null;
    if (input && document.activeElement !== input) {
      input.value = entry.body.text;
      input.dataset.saved = entry.body.text;
      input.dataset.kept = "yes";
    }
  }
}

function rule(slot, count) {
  keep(slot.split(":")[0], slot, { count });
}

function convention(select) {
  keep("option", `option:${select.dataset.option}`, { choice: select.value });
  conventionChanged = true;
}

function fill(button) {
  const [series, column] = button.dataset.fill.split(".");
  button.dataset.values.split(" ").forEach((text, i) => {
    const input = cell(`${series}.${column}.${i + 1}.1`);
    if (input && !input.value.trim()) {
      input.value = text;
      commit(input);
    }
  });
}

let lastCell = null; // the cell last used, whose row is moved

/** Show the row of the cell last used one place higher or lower; it keeps its number. */
function moveRow(step) {
  const row = (lastCell && cell(lastCell))?.closest("tr");
  const table = row?.closest("table");
  if (!table) return;
  const numbers = rowsOf(table).map((r) => Number(r.dataset.at.split(".")[1]));
  const at = numbers.indexOf(Number(row.dataset.at.split(".")[1]));
  const to = at + step;
  if (to < 0 || to >= numbers.length) return;
  [numbers[at], numbers[to]] = [numbers[to], numbers[at]];
  keep("order", `order:${table.dataset.series}`, { rows: numbers });
}

function order(select) {
  const { value } = select;
  if (value === "moved") return;
  keep("order", `order:${select.dataset.order}`, value === "taken" ? {} : { by: value.slice(1), falling: value[0] === "-" });
}

/** What an instrument shows at zero, as one more reading of it: earlier ones stay, and their mean counts. */
function readZero({ zeroOf, zeroLabel, zeroRead }) {
  const said = zeroRead ? `${zeroLabel} at zero, once more (so far ${zeroRead})` : `What does the ${zeroLabel} show at zero?`;
  ask(said, [], (text) => keep("zero", `zero:${zeroOf}`, { text: zeroRead ? `${zeroRead}; ${text}` : text }));
}

/** A row that no fit takes, to hold what the line predicts against what is then read. */
function testRow(button) {
  const { testRow: series, count } = button.dataset;
  rule(`rows:${series}`, Number(count));
  keep("leave-out", `out:${series}.${count}`, { reason: button.dataset.reason ?? "test row" });
}

/** The cursor stands where the next reading goes; a finger would only get its keyboard in the way. */
function stand() {
  if (!matchMedia("(pointer: fine)").matches) return;
  const free = everyCell().filter((i) => !i.value.trim() && wanted(i));
  const first = free.find((i) => !i.placeholder) ?? free[0];
  first?.focus({ preventScroll: true });
}

/** A block from a spreadsheet goes into the table from the cell it is pasted in, right and down; rows that are missing are ruled. */
function paste(event) {
  const input = event.target;
  const text = event.clipboardData?.getData("text/plain") ?? "";
  const table = input.matches?.("#tables table input[data-slot]") ? input.closest("table") : null;
  if (!table || !/[\t\n]/.test(text.trim())) return; // one value: the browser's own paste
  event.preventDefault();
  const block = text.replace(/\r\n?/g, "\n").replace(/\n+$/, "").split("\n").map((line) => line.split("\t").map((cell) => cell.trim()));
  const grid = rows(table);
  const y = grid.findIndex((row) => row.includes(input));
  const x = grid[y].indexOf(input);
  const most = y + block.length;
  const { series } = table.dataset;
  if (most > grid.length) keep("rows", `rows:${series}`, { count: most });
  for (const [down, right, text] of block.flatMap((line, i) => line.map((one, j) => [i, j, one]))) {
    const above = grid[Math.min(y + down, grid.length - 1)][x + right];
    if (!text || !above) continue;
    const cell = grid[y + down]?.[x + right];
    if (cell) {
      cell.value = text;
      commit(cell, { by: "paste" });
      continue;
    }
    const parts = above.dataset.slot.split(".");
    parts[parts[0].startsWith("mark:") ? 1 : 2] = y + down + 1;
    const slot = parts.join(".");
    if (slot.startsWith("mark:")) keep("mark", slot, { text });
    else keep("reading", slot, { text, by: "paste" });
  }
}

/** Safety is read before the table opens. */
function startGate() {
  const gate = document.getElementById("gate");
  document.getElementById("gate-read")?.addEventListener("click", () => {
    for (const care of gate.querySelectorAll("[data-care]")) keep("tick", `tick:${care.dataset.care}`, { done: true });
    gate.remove();
    const opened = document.getElementById("opened");
    opened.inert = false;
    opened.classList.remove("shut");
    opened.focus({ preventScroll: true });
    stand();
    document.getElementById("deck")?.classList.remove("folded"); // as when a page opens without a gate
  });
}

const FOLD = "cavrel.fold";

/** What is computed can be folded away where a table is wide; the browser remembers it. */
function startFold() {
  const folded = (on) => {
    document.documentElement.classList.toggle("fold-computed", on);
    for (const button of document.querySelectorAll("[data-fold]")) button.textContent = on ? "show computed columns" : "hide computed columns";
  };
  let on = false;
  try { on = localStorage.getItem(FOLD) === "yes"; } catch { /* shown then */ }
  folded(on);
  document.addEventListener("click", (event) => {
    if (!event.target.closest("[data-fold]")) return;
    on = !on;
    try { localStorage.setItem(FOLD, on ? "yes" : "no"); } catch { /* until the page goes */ }
    folded(on);
  });
  document.addEventListener("cavrel:saved", () => { if (on) folded(on); });
}

export function start() {
  startGate();
  startFold();
  document.addEventListener("paste", paste);
  document.addEventListener("focusout", (event) => {
    if (event.target.matches?.("#tables input[data-slot]") && !isDrawing()) commit(event.target);
  });
  document.addEventListener("focusin", (event) => {
    if (!event.target.matches?.("#tables input[data-slot]")) return;
    lastCell = event.target.dataset.slot;
    event.target.select();
  });
  document.addEventListener("keydown", (event) => {
    const input = event.target;
    if (!input.matches?.("#tables input[data-slot]")) return;
    if (event.key === "Enter") {
      event.preventDefault();
      commit(input);
      onEnter(input, event.shiftKey ? -1 : 1);
    } else if (event.key === "Tab" && !event.ctrlKey && !event.altKey && !event.metaKey) {
      if (sideways(input, event.shiftKey ? -1 : 1)) event.preventDefault();
    } else if (event.key === "ArrowDown" || event.key === "ArrowUp") {
      event.preventDefault();
      if (event.altKey) return moveRow(event.key === "ArrowDown" ? 1 : -1);
      down(input, event.key === "ArrowDown" ? 1 : -1);
    }
  });
  document.addEventListener("click", (event) => {
    const zero = event.target.closest("[data-zero-of]");
    if (zero) readZero(zero.dataset);
    if (event.target.closest("[data-next-way]")) chooseWay();
    if (event.target.closest("[data-later]")) root.dataset.trials = root.dataset.trials === "all" ? "" : "all";
    const ruled = event.target.closest("[data-rule]");
    if (ruled) rule(ruled.dataset.rule, stepped(ruled));
    const filled = event.target.closest("[data-fill]");
    if (filled) fill(filled);
    const moved = event.target.closest("[data-move-row]");
    if (moved) moveRow(Number(moved.dataset.moveRow));
    const tested = event.target.closest("[data-test-row]");
    if (tested) testRow(tested);
    const written = event.target.closest("[data-write]");
    const input = written && cell(written.dataset.write);
    if (input) {
      input.value = written.dataset.text;
      commit(input, { by: written.dataset.by ?? "laps" });
    }
  });
  document.addEventListener("change", (event) => {
    const select = event.target.closest("select[data-option]");
    if (select) convention(select);
    const ordered = event.target.closest("select[data-order]");
    if (ordered) order(ordered);
  });
  // One changed while the page was still loading is no less meant.
  for (const select of document.querySelectorAll("select[data-option]")) {
    if (!select.selectedOptions[0]?.defaultSelected) convention(select);
  }
  document.addEventListener("cavrel:saved", (event) => {
    const waiting = new Set(kept().map((e) => e.slot));
    for (const [slot, id] of Object.entries({ ...event.detail.others, ...event.detail.entries })) {
      const input = cell(slot);
      if (!input) continue;
      input.dataset.entry = id;
      if (!waiting.has(slot)) delete input.dataset.kept;
    }
    overlay();
    // Another convention may bring another law, other steps and other timers: the page is asked for anew once it is saved.
    if (conventionChanged && !kept().length) location.reload();
  });
  // What another tab of this run keeps is as good as written here.
  window.addEventListener("storage", (event) => { if (ours(event.key)) overlay(); });
  overlay();
  try { root.dataset.next = localStorage.getItem(WAY) ?? "column"; } catch { root.dataset.next = "column"; }
  // Typed and left while the page still loaded.
  for (const input of everyCell()) {
    if (input !== document.activeElement && input.value.trim() !== input.dataset.saved) commit(input);
  }
  for (const [slot, text, left] of drafts()) {
    const input = cell(slot);
    if (left && input) {
      input.value = text;
      commit(input);
      continue;
    }
    // Half typed when the page went away: back in its cell, and kept as ever when the cell is left.
    if (input && input.value !== text) {
      input.focus();
      input.value = text;
    }
  }
  if (document.activeElement === document.body && !location.hash) stand();
}
