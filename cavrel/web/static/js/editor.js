// Writing a definition: line numbers, each fault next to its line, the check asked for as the text is typed, and a draft that a crash
// of page, browser or server does not take away.
const DELAY = 450;
let form, text, gutter, over, draft;
let timer = 0;
let asked = 0;
let faults = [];

const state = (words, kind) => {
  const box = document.getElementById("editor-state");
  box.textContent = words;
  box.dataset.state = kind;
};

function lineHeight() {
  return parseFloat(getComputedStyle(text).lineHeight);
}

function number() {
  const lines = text.value.split("\n").length;
  if (gutter.childElementCount !== lines) {
    gutter.replaceChildren(...Array.from({ length: lines }, (_, i) => {
      const row = document.createElement("span");
      row.textContent = i + 1;
      return row;
    }));
  }
  for (const [i, row] of [...gutter.children].entries()) row.classList.toggle("at-fault", faults.some((f) => f.line === i + 1));
}

function place() {
  gutter.scrollTop = text.scrollTop;
  const high = lineHeight();
  const pad = parseFloat(getComputedStyle(text).paddingTop);
  const lines = text.value.split("\n");
  over.replaceChildren(...faults.map((fault) => {
    const note = document.createElement("span");
    note.textContent = `◂ ${fault.what}`;
    note.style.top = `${pad + (fault.line - 1) * high - text.scrollTop}px`;
    note.style.left = `${Math.min((lines[fault.line - 1] ?? "").length + 2, 58)}ch`;
    return note;
  }));
}

function read() {
  faults = JSON.parse(document.getElementById("faults").dataset.faults);
  number();
  place();
}

async function check() {
  const mine = ++asked;
  try {
    const body = new FormData(form);
    const answer = await fetch(form.dataset.check, { method: "POST", body });
    if (!answer.ok) throw new Error(answer.status);
    const fragment = await answer.text();
    if (mine !== asked) return; // a newer text is being checked already
    const fresh = new DOMParser().parseFromString(fragment, "text/html").getElementById("checked");
    document.getElementById("checked").replaceWith(fresh);
    read();
    state(faults.length ? "not saved: see the marked line" : "not saved yet", faults.length ? "away" : "sending");
  } catch {
    if (mine === asked) state("not checked: the server does not answer; the text stays here", "away");
  }
}

function typed() {
  try { localStorage.setItem(draft, text.value); } catch { /* the page itself still holds it */ }
  number();
  place();
  state("not saved yet", "sending");
  clearTimeout(timer);
  timer = setTimeout(check, DELAY);
}

function go(line) {
  const before = text.value.split("\n").slice(0, line - 1).join("\n").length + (line > 1 ? 1 : 0);
  text.focus();
  text.setSelectionRange(before, before + text.value.split("\n")[line - 1].length);
  text.scrollTop = Math.max(0, (line - 6) * lineHeight());
}

export function start() {
  form = document.getElementById("editor");
  text = document.getElementById("text");
  gutter = document.getElementById("gutter");
  over = document.getElementById("faults-over");
  draft = `cavrel.write.${form.dataset.name || new URLSearchParams(location.search).get("like") || "blank"}`;
  const asServed = text.value;
  text.addEventListener("input", typed);
  text.addEventListener("scroll", place);
  text.addEventListener("keydown", (event) => {
    if ((event.ctrlKey || event.metaKey) && event.key === "s") {
      event.preventDefault();
      form.requestSubmit();
    }
  });
  document.addEventListener("click", (event) => {
    const button = event.target.closest("[data-line]");
    if (button) go(Number(button.dataset.line));
  });
  document.getElementById("editor-version")?.addEventListener("change", (event) => { location.search = `?version=${event.target.value}`; });
  let kept = null;
  try { kept = localStorage.getItem(draft); } catch { /* nothing to bring back */ }
  // What the server has saved needs no draft; one that differs was typed and not saved.
  if (kept !== null && kept !== asServed && !new URLSearchParams(location.search).has("version")) {
    text.value = kept;
    typed();
  } else if (kept === asServed) localStorage.removeItem(draft);
  read();
}
