// What every page has: clock, themes, keys; and on a run's pages the parts that keep and show entries.
import { startCalls } from "./calls.js";
import { keepUnfolded, startClock, startFolds, startThemes } from "./frame.js";
import { keepForOffline } from "./offline.js";

startClock();
startThemes();
startFolds();
keepUnfolded();
startCalls();

const { run, page = "", lesson } = document.body.dataset;
const parts = [];
/** A part of the page: its file and what begins it. All are loaded at once and begun in order. */
const part = (file, begin = "start") => parts.push([import(`./${file}.js`), begin]);

if (run) {
  for (const file of ["margin", "keys", "room", "ahead"]) part(file);
  if (page === "measure") for (const file of ["sheet", "watch", "caller", "bench", "trace", "steadiness", "frames", "remarks"]) part(file);
  if (page.startsWith("fit")) {
    part("stretch", "startStretch");
    part("picture", "startPictures");
    part("touch", "startTouch");
  }
  if (/^(report|marking):/.test(page)) part("report", "startReport");
  if (page === "plan") part("plan");
  if (page.startsWith("traces:")) part("trace");
  if (page.startsWith("stretches:")) part("stretches");
  part("keep");
}
if (document.getElementById("editor")) part("editor");
if (document.querySelector("form[data-draft], [data-draft-done]")) part("forms");
if (document.getElementById("import-table")) part("tableimport");
if (lesson) part("lesson");
if (document.getElementById("find")) part("find");
if (run) part("goon", "note");
if (document.getElementById("go-on")) part("goon", "offer");
if (document.getElementById("start")) part("starting");
for (const [loaded, begin] of parts) (await loaded)[begin]();
document.documentElement.dataset.ready = "yes";
(window.requestIdleCallback ?? setTimeout)(keepForOffline);
