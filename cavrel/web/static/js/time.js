// The bench's own time: real time, or as many times faster as the simulated apparatus is told to run.
const KEY = `cavrel.time.${document.body.dataset.store}.${document.body.dataset.run}`;
let base = { real: 0, bench: 0, speed: 1 };

try {
  const kept = JSON.parse(localStorage.getItem(KEY) ?? "null");
  if (kept && kept.speed > 0) base = kept;
} catch { /* real time then */ }

// Another tab of this run may let time run faster: watch, calls and apparatus of both go by one clock.
window.addEventListener("storage", (event) => {
  if (event.key !== KEY || !event.newValue) return;
  try { base = JSON.parse(event.newValue); } catch { return; }
  document.dispatchEvent(new CustomEvent("cavrel:speed", { detail: base.speed }));
});

export const speed = () => base.speed;

/** Epoch milliseconds of the bench's time at a moment of real time. */
export function benchTime(real) {
  return base.bench + (real - base.real) * base.speed;
}

/** The real moment of a moment of the bench's time. */
export function realTime(bench) {
  return base.real + (bench - base.bench) / base.speed;
}

export const now = () => benchTime(performance.timeOrigin + performance.now());

export function setSpeed(value) {
  const real = performance.timeOrigin + performance.now();
  base = { real, bench: benchTime(real), speed: value };
  try { localStorage.setItem(KEY, JSON.stringify(base)); } catch { /* as fast as asked until the page goes */ }
}
