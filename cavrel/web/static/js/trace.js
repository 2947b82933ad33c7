// Choosing the stretch of a trace: by dragging across the graph, or by typing its two ends.
import { keep } from "./keep.js";

const chosen = () => document.getElementById("chosen");

function choose(begin, end) {
  if (!Number.isFinite(begin) || !Number.isFinite(end) || begin === end) return;
  const [low, high] = [Math.min(begin, end), Math.max(begin, end)].map((t) => Number(t.toPrecision(6)));
  keep("stretch", `stretch:${chosen().dataset.place}`, { begin: low, end: high });
}

function timeAt(graph, event) {
  const box = graph.getBoundingClientRect();
  const x = ((event.clientX - box.left) / box.width) * graph.viewBox.baseVal.width;
  const { start, end, low, high } = graph.dataset;
  const share = Math.min(Math.max((x - start) / (end - start), 0), 1);
  return Number(low) + share * (Number(high) - Number(low));
}

export function start() {
  let from = null;
  let mark = null;
  document.addEventListener("pointerdown", (event) => {
    const graph = event.target.closest?.("#trace-figure svg");
    if (!graph) return;
    event.preventDefault();
    graph.setPointerCapture(event.pointerId);
    from = timeAt(graph, event);
    mark = graph.querySelector(".stretch");
  });
  document.addEventListener("pointermove", (event) => {
    const graph = event.target.closest?.("#trace-figure svg");
    if (from === null || !graph || !mark) return;
    const { start: left, end: right, low, high } = graph.dataset;
    const at = (t) => Number(left) + ((t - low) / (high - low)) * (right - left);
    const [a, b] = [at(from), at(timeAt(graph, event))].sort((p, q) => p - q);
    mark.setAttribute("x", a);
    mark.setAttribute("width", b - a);
  });
  document.addEventListener("pointerup", (event) => {
    const graph = event.target.closest?.("#trace-figure svg");
    if (from === null || !graph) return;
    choose(from, timeAt(graph, event));
    from = null;
  });
  document.addEventListener("change", (event) => {
    if (!event.target.matches("#stretch-begin, #stretch-end")) return;
    const [begin, end] = ["stretch-begin", "stretch-end"].map((id) => {
      const text = document.getElementById(id).value.trim().replace(",", ".");
      return text === "" ? NaN : Number(text);
    });
    const bad = !Number.isFinite(Number.isFinite(begin) ? end : begin);
    event.target.setAttribute("aria-invalid", String(bad));
    if (bad) document.getElementById("stretch-value").textContent = `“${event.target.value}” is no time in seconds, such as 0.9`;
    choose(begin, end);
  });
}
