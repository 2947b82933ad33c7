// The handle of a tangent: dragged along x or moved by arrow keys; where it is let go, the tangent touches.
import { keep } from "./keep.js";

const form = () => document.getElementById("touch");

function put(x) {
  const { touch, points } = form().elements;
  touch.value = Number(x.toPrecision(4));
  const slot = form().dataset.touch;
  if (!slot) return form().requestSubmit();
  const unit = form().dataset.unit;
  keep("heading", slot, { at: `${touch.value}${unit ? ` ${unit}` : ""}`, points: Number(points.value) });
}

/** The value under a pointer, within the axis. */
function under(handle, event) {
  const svg = handle.ownerSVGElement;
  const box = svg.getBoundingClientRect();
  const px = ((event.clientX - box.left) / box.width) * svg.viewBox.baseVal.width;
  const { start, end } = handle.dataset;
  const share = Math.min(Math.max((px - start) / (end - start), 0), 1);
  const [low, high] = [handle.getAttribute("aria-valuemin"), handle.getAttribute("aria-valuemax")].map(Number);
  return { value: low + share * (high - low), px: Number(start) + share * (end - start) };
}

export function startTouch() {
  let held = null;
  document.addEventListener("pointerdown", (event) => {
    held = event.target.closest?.(".touch");
    if (!held) return;
    event.preventDefault();
    event.stopPropagation();
    held.focus();
  }, true);
  document.addEventListener("pointermove", (event) => {
    if (!held) return;
    const { px } = under(held, event);
    for (const circle of held.querySelectorAll("circle")) circle.setAttribute("cx", px.toFixed(1));
  });
  document.addEventListener("pointerup", (event) => {
    if (held) put(under(held, event).value);
    held = null;
  });
  document.addEventListener("pointercancel", () => { held = null; });
  document.addEventListener("keydown", (event) => {
    const handle = event.target.closest?.(".touch");
    const way = { ArrowLeft: -1, ArrowDown: -1, ArrowRight: 1, ArrowUp: 1 }[event.key];
    if (!handle || !way) return;
    event.preventDefault();
    const [low, high, now] = ["aria-valuemin", "aria-valuemax", "aria-valuenow"].map((name) => Number(handle.getAttribute(name)));
    put(Math.min(Math.max(now + (way * (high - low)) / (event.shiftKey ? 10 : 100), low), high));
  });
  document.addEventListener("submit", (event) => {
    if (!event.target.matches("form[data-touch]")) return;
    event.preventDefault();
    const { touch, points } = event.target.elements;
    const unit = event.target.dataset.unit;
    const typed = touch.value.trim();
    const at = /^[-+\d.,eE]+$/.test(typed) && unit ? `${typed} ${unit}` : typed;
    keep("heading", event.target.dataset.touch, { ...(at && { at }), points: Number(points.value) });
  });
}
