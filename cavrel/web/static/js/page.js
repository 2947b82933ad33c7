// What every page has: clock, themes, keys; and on a run's pages the parts that keep and show entries.
import { startCalls } from "./calls.js";
import { startClock, startThemes } from "./frame.js";
import { keepForOffline } from "./offline.js";

startClock();
startThemes();
keepForOffline();
startCalls();

if (document.body.dataset.run) {
  const [{ start: startKeeping }, { start: startMargin }, { start: startKeys }] = await Promise.all([
    import("./keep.js"), import("./margin.js"), import("./keys.js"),
  ]);
  startMargin();
  startKeys();
  (await import("./room.js")).start();
  if (document.body.dataset.page === "measure") {
    const [{ start: startSheet }, { start: startWatch }, { start: startCaller }] = await Promise.all([
      import("./sheet.js"), import("./watch.js"), import("./caller.js"),
    ]);
    startSheet();
    startWatch();
    startCaller();
    (await import("./bench.js")).start();
    (await import("./trace.js")).start();
    (await import("./steady.js")).start();
    (await import("./frames.js")).start();
  }
  if (document.body.dataset.page.startsWith("straighten")) {
    (await import("./stretch.js")).startStretch();
    (await import("./picture.js")).startPictures();
  }
  if (/^(report|marking):/.test(document.body.dataset.page)) (await import("./report.js")).startReport();
  if (document.body.dataset.page === "plan") (await import("./plan.js")).start();
  if (document.body.dataset.page.startsWith("traces:")) (await import("./trace.js")).start();
  startKeeping();
}
if (document.getElementById("editor")) (await import("./editor.js")).start();
if (document.querySelector("form[data-draft]")) (await import("./forms.js")).start();
if (document.getElementById("bring-table")) (await import("./bringing.js")).start();
if (document.body.dataset.lesson) (await import("./lesson.js")).start();
if (document.getElementById("find")) (await import("./find.js")).start();
document.documentElement.dataset.ready = "yes";
