// How the signs of the simulated apparatus move, and what swings in it.
import { hum } from "./beep.js";
import { written } from "./decimals.js";

const twoSided = (s) => 1 / (1 + s * s);

/** By kind: move the part of a sign for `s`, how many widths off it is, and say what it shows; of a string, in how many loops. */
export const SIGNS = {
  needle(part, s, _, sensitive = 1) {
    const turn = 40 * Math.tanh(s * sensitive);
    part.setAttribute("transform", `translate(280 140) rotate(${turn.toFixed(2)})`);
    const marks = Math.round(turn / 4 * 4) / 4;
    return marks === 0 ? "the pointer stays at zero" : `the pointer stands ${Math.abs(marks)} divisions ${marks > 0 ? "right" : "left"} of zero`;
  },
  current(part, s, _, sensitive = 1) {
    const turn = Math.min(Math.max(-40 * s * sensitive, -40), 40);
    part.setAttribute("transform", `translate(280 140) rotate(${turn.toFixed(2)})`);
    const marks = Math.round(Math.abs(turn) * 4) / 16;
    if (marks < 0.06) return "no current is left";
    return `the current is ${Math.abs(turn) === 40 ? "beyond the scale" : `${marks} divisions`}${turn < 0 ? ", reversed" : ""}`;
  },
  tilt(part, s) {
    const turn = 11 * Math.tanh(s);
    part.setAttribute("transform", `translate(280 78) rotate(${turn.toFixed(2)})`);
    const degrees = Math.round(turn * 5) / 5;
    return degrees === 0 ? "the rule lies level" : `the ${degrees > 0 ? "right" : "left"} end hangs ${Math.abs(degrees)}° low`;
  },
  tone(part, s) {
    const loud = twoSided(s);
    if (document.getElementById("bench-sound").checked) hum(loud, 440);
    for (const [i, bar] of [...part.children].entries()) bar.classList.toggle("on", i < Math.round(20 * loud));
    return `loudness ${Math.round(100 * loud)} of 100`;
  },
  string(part, s, loops = 2) {
    const wide = twoSided(s);
    const [height, half] = [46 * wide, 220 / loops];
    const along = (way) => `M60 75Q${60 + half} ${75 - way * height} ${60 + 2 * half} 75${Array.from({ length: loops - 1 }, (_, i) => `T${60 + 2 * half * (i + 2)} 75`).join("")}`;
    part.setAttribute("d", `${along(1)}${along(-1)}`);
    return `the string swings ${Math.round(100 * wide)} of 100 wide${wide > 0.3 ? ` in ${loops === 1 ? "one loop" : `${loops} loops`}` : ""}`;
  },
  light(part, s) {
    const bright = s > 0 ? Math.tanh(s) : 0;
    part.style.opacity = bright.toFixed(3);
    return bright < 0.005 ? "the lamp is dark" : `the lamp glows, ${Math.max(1, Math.round(100 * bright))} of 100`;
  },
  /** The lines in a telescope's field, and how far each stands from the cross hairs. */
  spectrum(part, at, data) {
    const wide = 560 / data.field;
    const seen = data.lines.map((line) => ({ ...line, off: line.at - at })).filter((line) => Math.abs(line.off) < (data.field + data.slit) / 2);
    part.replaceChildren(...seen.map((line) => {
      const drawn = document.createElementNS("http://www.w3.org/2000/svg", "rect");
      const set = { x: 280 + (line.off - data.slit / 2) * wide, y: 10, width: data.slit * wide, height: 130, fill: line.colour, opacity: 0.12 + 0.88 * Math.sqrt(line.bright), class: "spectral-line" };
      for (const [name, value] of Object.entries(set)) drawn.setAttribute(name, value);
      return drawn;
    }));
    const words = seen.sort((a, b) => Math.abs(a.off) - Math.abs(b.off)).slice(0, 4).map(({ name, off }) => {
      const half = Math.round((2 * Math.abs(off)) / data.minute) / 2;
      return half === 0 ? `${name} on the cross hairs` : `${name} ${written(String(half))}′ ${off > 0 ? "right" : "left"} of the cross hairs`;
    });
    return words.length ? words.join("; ") : "dark";
  },
};

/** By kind: what swings, at a phase of its turn. */
export const MOTIONS = {
  swing(part, phase) {
    part.setAttribute("transform", `translate(280 12) rotate(${(12 * Math.sin(phase)).toFixed(3)})`);
  },
  bounce(part, phase, drawing) {
    const y = 100 - 30 * Math.sin(phase);
    part.setAttribute("transform", `translate(280 ${y.toFixed(2)})`);
    const gap = (y - 22) / 12;
    drawing.querySelector(".sign-spring").setAttribute("d", `M280 8${Array.from({ length: 12 }, (_, i) => `L${i % 2 ? 268 : 292} ${(8 + gap * (i + 0.5)).toFixed(1)}`).join("")}L280 ${(y - 14).toFixed(1)}`);
  },
  circle(part, phase, drawing) {
    const x = 280 + 150 * Math.sin(phase);
    const y = 126 + 22 * Math.cos(phase);
    part.setAttribute("transform", `translate(${x.toFixed(2)} ${y.toFixed(2)})`);
    const string = drawing.querySelector(".sign-string");
    string.setAttribute("x2", x.toFixed(2));
    string.setAttribute("y2", y.toFixed(2));
  },
};
/** What is said at each quarter of a turn. */
export const QUARTERS = ["passing the mark to the right", "at the far right", "passing the mark to the left", "at the far left"];
