// The stretches proposed for all rows: those that are ticked count, at one press.
import { keep, kept } from "./keep.js";

/** What rows without samples are to have of another row's: place -> samples. */
async function cutRows(address) {
  const answer = await fetch(address);
  const { rows } = answer.ok ? await answer.json() : { rows: [] };
  return Object.fromEntries(rows.filter((row) => row.cut).map((row) => [row.place, row.cut]));
}

export function start() {
  const form = document.getElementById("all-stretches");
  form?.addEventListener("submit", async (event) => {
    event.preventDefault();
    const ticked = [...form.querySelectorAll("[name=place]:checked")];
    const cuts = ticked.some((one) => "cut" in one.dataset) ? await cutRows(form.dataset.all) : {};
    for (const { value, dataset } of ticked) {
      if (cuts[value]) keep("trace", `trace:${value}`, cuts[value]);
      else keep("stretch", `stretch:${value}`, { begin: Number(dataset.begin), end: Number(dataset.end) });
    }
    const go = () => { if (!kept().length) location.href = form.dataset.back; };
    if (ticked.length) document.addEventListener("cavrel:saved", go);
    else go();
  });
}
