// Plan: what is typed, ticked, dragged or taken becomes an entry of the logbook; what it promises comes back with the save.
import { ask } from "./ask.js";
import { keep, kept } from "./keep.js";
import { drafts, endDraft } from "./pending.js";
import { stepped } from "./stepping.js";

const WHOLE = ["option", "instrument", "rule", "run", "heading"];
let whole = false;

const points = (text) => text.trim().split(/;|\s+|,\s+/).filter(Boolean);
const list = (key) => document.querySelector(`[data-slot="settings:${CSS.escape(key)}"]`);

function say(input, what) {
  let line = input.parentElement.querySelector(".fault.own");
  if (!line) {
    line = document.createElement("p");
    line.className = "fault own";
    line.setAttribute("role", "alert");
    input.after(line);
  }
  line.textContent = what;
  input.toggleAttribute("aria-invalid", Boolean(what));
}

/** The first set point that may not stand, in words; empty where all may. */
function refused(input, texts) {
  const low = Number(input.dataset.low);
  const high = Number(input.dataset.high);
  for (const text of texts) {
    const value = Number(text.replace(",", ".").replace("−", "-"));
    if (Number.isFinite(value) && Number.isFinite(low) && (value < low * (1 - 1e-9) - 1e-12 || value > high * (1 + 1e-9))) {
      return `${text} is outside the range of this experiment, ${Number(low.toPrecision(3))} to ${Number(high.toPrecision(3))}. It is not saved.`;
    }
  }
  return "";
}

function setPoints(key, texts) {
  const input = list(key);
  const what = refused(input, texts);
  say(input, what);
  if (what) return;
  input.value = texts.join("  ");
  input.dataset.saved = input.value;
  keep("settings", `settings:${key}`, { texts }, endDraft(input.dataset.slot, input.value));
}

/** A field that was left: its entry, if it says anything new. */
function commit(input) {
  const { slot } = input.dataset;
  const text = input.value.trim();
  const [kind, place] = slot.split(":");
  const changed = text !== (input.dataset.saved ?? input.defaultValue).trim();
  if (kind === "settings" && changed) {
    setPoints(place, points(text)); // what is refused stays half typed, and survives a reload
    return;
  }
  const key = endDraft(slot, text);
  if (!changed) return;
  input.dataset.saved = text;
  if (kind === "own") typedInstrument(place.split("#")[0], key);
  else if (kind === "heading") heading(place.split("#")[0], key);
  else if (kind === "words") keep("words", slot, { text }, key);
  else if (kind === "zero") keep("zero", slot, { text }, key);
  else if (kind === "least") {
    const { least_count: _, ...own } = JSON.parse(input.dataset.fields);
    exchange(place, text ? { ...own, least_count: text } : own, key);
  } else keep("reading", slot, { text, by: "plan" }, key);
}

/** An instrument as its maker printed it: what is typed stands above what was chosen. */
function typedInstrument(name, key) {
  const box = document.querySelector(`[data-own="${CSS.escape(name)}"]`);
  const body = JSON.parse(box.dataset.fields);
  for (const field of box.querySelectorAll("input[data-slot]")) {
    const what = field.dataset.slot.split("#")[1];
    if (field.value.trim()) body[what] = field.value.trim();
    else delete body[what];
  }
  exchange(name, body, key);
}

const FROM_NOW = "from now on";

/** An instrument takes another's place. Readings keep the one that they were taken with: a change holds for what follows, or is a correction with
 * a reason, and which of both it is only who measured knows. */
function exchange(name, body, key = null) {
  const taken = Number(document.querySelector(`[data-gauge="${CSS.escape(name)}"]`)?.dataset.taken ?? 0);
  const put = (reason) => {
    keep("instrument", `instrument:${name}`, reason ? { ...body, reason } : body, key);
    whole = true;
  };
  if (!taken) put("");
  else {
    const title = `${taken} reading${taken === 1 ? " was" : "s were"} taken with it so far. Does this hold from now on? If it was so all along, say why it is changed:`;
    ask(title, [FROM_NOW], (text) => put(text === FROM_NOW ? "" : text));
  }
}

/** What a run calls a column: all that its line says, as one entry. */
function heading(name, key) {
  const body = {};
  for (const field of document.querySelectorAll(`[data-slot^="heading:${CSS.escape(name)}#"]`)) {
    const what = field.dataset.slot.split("#")[1];
    if (what === "hidden") {
      if (field.checked === Boolean(field.dataset.off)) body.hidden = !field.checked;
    } else if (what === "reversed") {
      if (field.checked !== Boolean(field.dataset.usual)) body.reversed = field.checked;
    } else if (field.value.trim()) body[what] = field.value.trim();
  }
  keep("heading", `heading:${name}`, body, key);
  whole = true;
}

/** A column of the run's own, as one entry; what is wrong with it is said where entries that cannot be taken are. */
function addColumn(form) {
  const { letter, label, formula, unit } = form.elements;
  const body = { formula: formula.value.trim() };
  if (label.value.trim()) body.label = label.value.trim();
  if (unit.value.trim()) body.unit = unit.value.trim();
  keep("heading", `heading:${form.dataset.addColumn}.${letter.value.trim()}`, body);
  try { localStorage.removeItem(`cavrel.form.${location.pathname}.${form.dataset.draft}`); } catch { /* it was kept nowhere */ }
}

/** Make a change that was offered: the keys of a run document, as entries. */
function take(change) {
  const { plan = {}, quantities = {}, instruments = {} } = change;
  for (const [name, text] of Object.entries(quantities)) {
    const input = document.querySelector(`[data-slot="quantities.${CSS.escape(name)}.1"]`);
    if (input?.dataset.saved === text) continue;
    if (input) input.value = input.dataset.saved = text;
    keep("reading", `quantities.${name}.1`, { text, by: "plan" });
  }
  for (const [name, fields] of Object.entries(instruments)) exchange(name, fields);
  for (const [key, count] of Object.entries(plan.trials ?? {})) keep("trials", `trials:${key}`, { count, planned: true });
  const set = plan.settings ?? {};
  for (const [name, count] of Object.entries(plan.rows ?? {})) {
    if (!Object.keys(set).some((key) => key.startsWith(`${name}.`))) keep("rows", `rows:${name}`, { count, planned: true });
  }
  for (const [key, texts] of Object.entries(set)) setPoints(key, texts);
}

let asked = ""; // the question that is answered on the page

/** Plan changed and its promises were drawn anew: what was asked is asked of the new plan. */
function askAgain() {
  const button = asked && document.getElementById(asked);
  if (button && document.getElementById("answer")?.childNodes.length === 0) askBackwards(button);
}

async function askBackwards(button) {
  asked = button.id;
  const form = document.getElementById("backwards");
  const what = button.dataset.ask;
  if (button.dataset.minutes) document.getElementById("ask-minutes").value = button.dataset.minutes;
  const answered = (html) => { const place = document.getElementById("answer"); if (place && asked === button.id) place.innerHTML = html; };
  answered("…");
  try {
    const query = new URLSearchParams({ [what]: document.getElementById(`ask-${what}`).value });
    const answer = await fetch(`${form.dataset.url}?${query}`);
    if (!answer.ok) throw new Error(`answer ${answer.status}`);
    answered(await answer.text());
  } catch {
    answered("The server does not answer just now. Ask again in a moment; nothing is lost.");
  }
}

// Pegs: dragged by pointer, moved by arrow keys, to what the instrument can be set to.
let held = null;

const rounded = (value, step) => {
  const decimals = Math.max(0, Math.min(9, Math.ceil(-Math.log10(step) - 1e-9)));
  return (Math.round(value / step) * step).toFixed(decimals);
};

function moved(peg, value) {
  const graph = peg.closest("svg");
  const part = peg.closest(".pegs-of");
  const { low, high, start, end, step } = graph.dataset;
  const input = list(part.dataset.key);
  const least = Math.max(Number(low), Number(input.dataset.low));
  const most = Math.min(Number(high), Number(input.dataset.high));
  const text = rounded(Math.min(most, Math.max(least, value)), Number(step));
  const at = Number(start) + ((Number(text) - low) / (high - low)) * (end - start);
  peg.setAttribute("transform", `translate(${at.toFixed(2)} 0)`);
  peg.setAttribute("aria-valuenow", text);
  peg.setAttribute("aria-valuetext", text);
  const texts = points(input.value);
  texts[Number(peg.dataset.index)] = text;
  input.value = texts.join("  ");
  return { key: part.dataset.key, texts };
}

function valueAt(peg, event) {
  const graph = peg.closest("svg");
  const box = graph.getBoundingClientRect();
  const { low, high, start, end } = graph.dataset;
  const x = ((event.clientX - box.left) / box.width) * graph.viewBox.baseVal.width;
  return Number(low) + ((x - start) / (end - start)) * (high - low);
}

function startPegs(sheet) {
  sheet.addEventListener("pointerdown", (event) => {
    const peg = event.target.closest(".peg");
    if (!peg) return;
    event.preventDefault();
    peg.focus();
    held = peg;
    peg.closest("svg").setPointerCapture(event.pointerId);
  });
  sheet.addEventListener("pointermove", (event) => { if (held) moved(held, valueAt(held, event)); });
  for (const end of ["pointerup", "pointercancel"]) {
    sheet.addEventListener(end, (event) => {
      if (!held) return;
      const { key, texts } = moved(held, valueAt(held, event));
      held = null;
      setPoints(key, texts);
    });
  }
  sheet.addEventListener("keydown", (event) => {
    const peg = event.target.closest?.(".peg");
    if (!peg) return;
    const step = Number(peg.closest("svg").dataset.step) * (event.shiftKey ? 10 : 1);
    const way = { ArrowRight: 1, ArrowUp: 1, ArrowLeft: -1, ArrowDown: -1 }[event.key];
    if (!way) return;
    event.preventDefault();
    moved(peg, Number(peg.getAttribute("aria-valuenow")) + way * step);
  });
  sheet.addEventListener("focusout", (event) => {
    const peg = event.target.closest?.(".peg");
    const part = peg?.closest(".pegs-of");
    if (!part || held) return;
    const texts = points(list(part.dataset.key).value);
    if (texts.join("  ") !== part.dataset.texts) setPoints(part.dataset.key, texts);
  });
}

function pegButton(button) {
  const part = button.closest(".pegs-of");
  const texts = points(list(part.dataset.key).value);
  if (button.dataset.points !== undefined) {
    const wanted = points(button.dataset.points);
    if (wanted.length) setPoints(part.dataset.key, wanted);
    else {
      keep("settings", `settings:${part.dataset.key}`, { texts: [] });
      whole = true;
    }
    return;
  }
  if (button.dataset.peg === "drop") return setPoints(part.dataset.key, texts.slice(0, -1));
  const numbers = texts.map((t) => Number(t.replace(",", "."))).filter(Number.isFinite);
  const gap = numbers.length > 1 ? numbers.at(-1) - numbers.at(-2) : Number(part.dataset.step) * 10;
  const input = list(part.dataset.key);
  let next = (numbers.at(-1) ?? 0) + gap;
  if (next > Number(input.dataset.high) || next < Number(input.dataset.low)) next = ((numbers.at(-1) ?? 0) + (numbers.at(-2) ?? 0)) / 2;
  setPoints(part.dataset.key, [...texts, rounded(next, Number(part.dataset.step))]);
}

export function start() {
  const sheet = document.getElementById("sheet");
  startPegs(sheet);
  const frame = sheet.parentElement; // the expected result stands in the margin
  sheet.addEventListener("focusout", (event) => { if (event.target.matches?.(".planned, .planned-words")) commit(event.target); });
  frame.addEventListener("keydown", (event) => {
    if (event.key === "Enter" && event.target.matches?.("input.planned, input.planned-words")) {
      event.preventDefault();
      commit(event.target);
    } else if (event.key === "Enter" && event.target.matches?.("#backwards input")) {
      event.preventDefault();
      askBackwards(document.querySelector(`[data-ask="${event.target.id.replace("ask-", "")}"]`));
    }
  });
  frame.addEventListener("click", (event) => {
    const button = event.target.closest("button");
    if (!button) return;
    if (button.dataset.take) take(JSON.parse(button.dataset.take));
    else if (button.dataset.ask) askBackwards(button);
    else if (button.dataset.laboratory) {
      keep("run", "run:cupboard", { value: Number(button.dataset.laboratory) });
      whole = true;
    } else if (button.dataset.ruleBack) {
      keep("rule", `rule:${button.dataset.ruleBack}`, { value: null });
      whole = true;
    } else if (button.dataset.removeColumn) {
      keep("heading", `heading:${button.dataset.removeColumn}`, {});
    } else if (button.dataset.size) keep(button.dataset.size.split(":")[0], button.dataset.size, { count: stepped(button), planned: true });
    else if (button.dataset.peg || button.dataset.points !== undefined) pegButton(button);
  });
  sheet.addEventListener("submit", (event) => {
    if (!event.target.matches("[data-add-column]")) return;
    event.preventDefault();
    addColumn(event.target);
  });
  sheet.addEventListener("change", (event) => {
    if (event.target.matches("[data-start]")) {
      const { formula } = event.target.form.elements;
      formula.value = event.target.value || formula.value;
      return;
    }
    const { without, convention, foresee, instrument, rule } = event.target.dataset;
    if (without) {
      keep("without", `without:${without}`, { on: !event.target.checked });
      whole = true;
    } else if (event.target.matches(".planned-unit, .planned-shown")) {
      heading(event.target.dataset.slot.slice("heading:".length).split("#")[0], null);
    } else if (rule) {
      keep("rule", `rule:${rule}`, { value: JSON.parse(event.target.value) });
      whole = true;
    } else if (convention) {
      keep("option", `option:${convention}`, { choice: event.target.value });
      whole = true;
    } else if (foresee) keep("foresee", `foresee:${foresee}`, { shape: event.target.value });
    else if (instrument) {
      const body = JSON.parse(event.target.selectedOptions[0].dataset.fields);
      // Until it is said for what it holds, the one that is in force stays shown.
      for (const option of event.target.options) if (option.defaultSelected) option.selected = true;
      exchange(instrument, body);
    }
  });
  document.addEventListener("cavrel:saved", (event) => {
    for (const slot of Object.keys({ ...event.detail.others, ...event.detail.entries })) if (WHOLE.includes(slot.split(":")[0])) whole = true;
    // Another instrument or convention brings other decimals, formulas and tables: the page is asked for anew once all is saved.
    if (whole && !kept().length) location.reload();
    else askAgain();
  });
  for (const [slot, text] of drafts()) {
    const input = document.querySelector(`.planned[data-slot="${CSS.escape(slot)}"], .planned-words[data-slot="${CSS.escape(slot)}"]`);
    if (!input || input.value === text) continue;
    input.value = text;
    commit(input);
  }
}
