// Dragging across a graph chooses the stretch that counts: the points outside are left out, with a reason.
import { ask } from "./ask.js";
import { keep } from "./keep.js";

const REASONS = ["outside the straight part", "before the release", "after the stop", "the band was not stretched yet"];
const LEAST = 14; // pixels; less is a click

function outside(svg, low, high) {
  return [...svg.querySelectorAll(".pt[data-at]")].filter((point) => {
    const box = point.getBoundingClientRect();
    const x = box.left + box.width / 2;
    return (x < low || x > high) && !point.classList.contains("out");
  });
}

export function startStretch() {
  let from = null;
  let mark = null;
  const done = () => { mark?.remove(); mark = from = null; };
  document.addEventListener("pointerdown", (event) => {
    const svg = event.target.closest?.(".two-graphs svg");
    if (!svg || event.target.closest(".pt") || event.button !== 0) return;
    from = { svg, x: event.clientX };
  });
  document.addEventListener("pointermove", (event) => {
    if (!from || Math.abs(event.clientX - from.x) < LEAST) return;
    event.preventDefault();
    if (!mark) {
      mark = document.createElement("div");
      mark.className = "drag-stretch";
      document.body.append(mark);
    }
    const box = from.svg.getBoundingClientRect();
    const [a, b] = [from.x, Math.min(Math.max(event.clientX, box.left), box.right)].sort((p, q) => p - q);
    Object.assign(mark.style, { left: `${a}px`, width: `${b - a}px`, top: `${box.top}px`, height: `${box.height}px` });
  });
  document.addEventListener("pointerup", (event) => {
    if (!from) return;
    const { svg, x } = from;
    const far = Math.abs(event.clientX - x) >= LEAST;
    done();
    if (!far) return;
    const left = outside(svg, Math.min(x, event.clientX), Math.max(x, event.clientX));
    const inside = svg.querySelectorAll(".pt[data-at]").length - left.length;
    if (!left.length || !inside) return;
    ask(`Why leave out the ${left.length === 1 ? "point" : `${left.length} points`} outside?`, REASONS, (reason) => {
      for (const point of left) keep("leave-out", `out:${point.dataset.at}`, { reason });
    });
  });
  document.addEventListener("pointercancel", done);
}
