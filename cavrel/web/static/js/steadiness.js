// The steadiness watch: what is read while it is watched is kept with its moment; whether it is steady is said by the server.
import { isDrawing, keep } from "./keep.js";
import { now } from "./time.js";

function write(input) {
  const text = input.value.trim();
  if (!text) return;
  input.value = "";
  keep("timer", "timer:", { watched: input.dataset.watched, text, at: Math.round(now()) / 1000 });
}

export function start() {
  document.addEventListener("keydown", (event) => {
    const input = event.target;
    if (event.key !== "Enter" || !input.matches?.("input[data-watched]")) return;
    event.preventDefault();
    write(input);
    const all = [...input.closest("section").querySelectorAll("input[data-watched]")];
    all[(all.indexOf(input) + 1) % all.length].focus();
  });
  document.addEventListener("focusout", (event) => { if (event.target.matches?.("input[data-watched]") && !isDrawing()) write(event.target); });
}
