// Live samples: the page listens for a sensor, shows what comes, and keeps it when told to. What came is in the database meanwhile.
import { written } from "./decimals.js";
import { keep } from "./keep.js";
import { drawSamples } from "./samples.js";

const EVERY = 200;
const by = (id) => document.getElementById(id);
let asks; // whose samples: { place, url }
let take = null; // { id, last, times, values, listening, place }
let timer = 0;

async function tell(listen) {
  const token = document.querySelector("meta[name=csrf-token]").content;
  const answer = await fetch(asks().url("/live"), {
    method: "POST", headers: { "Content-Type": "application/json", "X-CSRFToken": token }, body: JSON.stringify({ listen }),
  });
  if (!answer.ok) throw new Error(`answer ${answer.status}`);
  return answer.json();
}

async function more() {
  if (!take || take.place !== asks().place) return;
  const mine = take;
  try {
    const query = new URLSearchParams({ take: mine.id, after: mine.last });
    const answer = await fetch(`${asks().url("/live.json")}?${query}`, { headers: { Accept: "application/json" } });
    const said = await answer.json();
    if (mine !== take) return;
    if (said.take !== take.id) Object.assign(take, { id: said.take, times: [], values: [] });
    take.last = said.last;
    take.listening = said.listening;
    for (const t of said.times) take.times.push(t);
    for (const v of said.values) take.values.push(v);
  } catch { /* asked again */ }
  show();
  if (take.listening) timer = setTimeout(more, EVERY);
}

function show() {
  const button = by("listen");
  if (!button || !take) return;
  const many = take.times.length;
  button.textContent = take.listening ? "Stop" : many ? "Listen again" : "Listen for a sensor";
  by("keep-live").hidden = take.listening || many < 2;
  by("live-said").textContent = take.listening
    ? many ? `${many} samples, to ${written(take.times.at(-1).toFixed(2))} s` : "listening; a sensor may send now"
    : many ? `${many} samples came` : "";
  const canvas = by("live-trace");
  canvas.hidden = !many;
  if (many) drawSamples(canvas, take.times, take.values);
}

async function press() {
  clearTimeout(timer);
  try {
    if (take?.listening) {
      await tell(false);
      await more();
      return;
    }
    const { take: id } = await tell(true);
    take = { id, last: 0, times: [], values: [], listening: true, place: asks().place };
    show();
    more();
  } catch { by("live-said").textContent = "The server does not answer; try again."; }
}

function keepAll() {
  // In the order of their times: a block that was sent again may have come late. Two samples of one moment are one.
  const order = take.times.map((t, i) => [t, take.values[i]]).sort((a, b) => a[0] - b[0]).filter((s, i, all) => !i || s[0] > all[i - 1][0]);
  const unit = by("chosen").dataset.unit;
  keep("trace", `trace:${take.place}`, { times: order.map((s) => s[0]), values: order.map((s) => s[1]), unit });
  take = null;
}

export function stopLive() {
  clearTimeout(timer);
  if (take?.listening) tell(false).catch(() => {});
  take = null;
}

/** After a reload the page goes on listening where somebody does. */
export async function resumeLive() {
  try {
    const answer = await fetch(`${asks().url("/live.json")}?take=0&after=0`, { headers: { Accept: "application/json" } });
    const said = await answer.json();
    if (!said.listening || take) return;
    take = { id: said.take, last: 0, times: [], values: [], listening: true, place: asks().place };
    more();
  } catch { /* nobody listens then */ }
}

export function startLive(of) {
  asks = of;
  document.addEventListener("click", (event) => {
    if (event.target.id === "listen") press();
    else if (event.target.id === "keep-live" && take) keepAll();
  });
}
