// Samples on a canvas, as they come.

/** Draw the first `count` of `values` over `times`, all of them where it is negative; the canvas is as wide as all of `times`. */
export function drawSamples(canvas, times, values, count = -1) {
  const pen = canvas.getContext("2d");
  const style = getComputedStyle(canvas);
  const shown = count < 0 ? times.length : count;
  const middle = canvas.height / 2;
  let most = 0;
  for (const v of values) most = Math.max(most, Math.abs(v));
  const first = times[0] ?? 0;
  const span = (times.at(-1) ?? 1) - first || 1;
  pen.clearRect(0, 0, canvas.width, canvas.height);
  pen.lineWidth = 1;
  pen.strokeStyle = style.getPropertyValue("--rule");
  pen.beginPath();
  pen.moveTo(0, middle);
  pen.lineTo(canvas.width, middle);
  pen.stroke();
  pen.strokeStyle = style.getPropertyValue("--own");
  pen.lineWidth = 1.6;
  pen.beginPath();
  for (let i = 0; i < shown; i += 1) pen.lineTo(((times[i] - first) / span) * canvas.width, middle - (0.9 * middle * values[i]) / (most || 1));
  pen.stroke();
}
