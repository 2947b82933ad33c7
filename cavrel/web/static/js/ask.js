// Asking for a sentence: a strip at the foot of the sheet.
let done = null;
let before = null;

const strip = () => document.getElementById("ask");

function close() {
  strip().hidden = true;
  done = null;
  if (before?.isConnected) before.focus();
}

/** Ask for a text; `quick` are answers that one press gives. Calls `then` with the text. */
export function ask(title, quick, then) {
  before = document.activeElement;
  done = then;
  document.getElementById("ask-title").textContent = title;
  const text = document.getElementById("ask-text");
  text.value = "";
  const row = document.getElementById("ask-quick");
  row.replaceChildren(...quick.map((words) => {
    const button = document.createElement("button");
    button.type = "button";
    button.textContent = words;
    button.addEventListener("click", () => finish(words));
    return button;
  }));
  strip().hidden = false;
  text.focus();
}

function finish(text) {
  const then = done;
  if (!text.trim()) return;
  close();
  then?.(text.trim());
}

export function start() {
  strip().addEventListener("submit", (event) => {
    event.preventDefault();
    finish(document.getElementById("ask-text").value);
  });
  document.getElementById("ask-cancel").addEventListener("click", close);
  strip().addEventListener("keydown", (event) => { if (event.key === "Escape") close(); });
}
