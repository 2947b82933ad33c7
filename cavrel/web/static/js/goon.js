// Where this device left off: a stage page notes itself, and the page that starts experiments offers to go on there.
import { told } from "./frame.js";

const LEFT = "cavrel.left";
const LONG_AGO = 14 * 24 * 3600 * 1000;

/** Note the run and stage that this device shows. */
export function note() {
  const { run, store, bench } = document.body.dataset;
  const stage = document.querySelector('.stage[aria-current="page"] b')?.textContent;
  const title = document.querySelector(".trail b")?.textContent;
  if (!stage || !title) return;
  const left = { run, store, bench, stage, title, path: location.pathname, at: Date.now() };
  try { localStorage.setItem(LEFT, JSON.stringify(left)); } catch { /* nothing is offered then */ }
}

/** Offer the run that this device left, where it belongs to this database and was open within a fortnight. */
export function offer() {
  const place = document.getElementById("go-on");
  let left = null;
  try { left = JSON.parse(localStorage.getItem(LEFT) ?? "null"); } catch { /* nothing is offered then */ }
  if (!left || left.store !== place.dataset.store || !(Date.now() - left.at < LONG_AGO) || !/^\/runs\/\d+\//.test(left.path)) return;
  const link = document.createElement("a");
  link.className = "btn-do";
  link.href = left.path;
  link.textContent = `Go on with ${left.title}`;
  const today = new Date(left.at).toDateString() === new Date().toDateString();
  place.append(link, ` ${left.bench}, at ${left.stage}${today ? `, left at ${told(new Date(left.at))}` : ""}`);
  place.hidden = false;
}
