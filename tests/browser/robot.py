"""A bench of the tests: it works the simulated apparatus by hand and reads it as a person does; long because each kind has its own hand."""

import re
from collections.abc import Mapping

import psycopg
from playwright.sync_api import Page, expect

from cavrel.core.quantity import units
from cavrel.present import visible
from tests.browser.conftest import Server, read_first, started

_HALVING = """([slot, wanted]) => {
  // Moves the contact towards where the sign says, by halves; one step at the end, as a hand does.
  const move = document.getElementById("bench-move");
  const words = () => document.getElementById("bench-state").textContent;
  const put = (v) => { move.value = v; move.dispatchEvent(new Event("input", { bubbles: true })); };
  let [low, high] = [Number(move.min), Number(move.max)];
  const right = { needle: / left /, tilt: /left end/, current: /the current is(?!.*reversed)/, light: /dark/ };
  const sign = document.querySelector("#bench-sign svg").dataset.sign;
  if (sign === "spectrum") {
    // Outwards from the straight light to the wanted line, then until it stands on the cross hairs.
    const [colour, count] = wanted;
    const way = slot.includes("_l.") ? -1 : 1;
    const minute = 1 / 60;
    const at = () => Number(move.value);
    const offset = (name) => words().split("; ").filter((w) => w.startsWith(name))
      .map((w) => (/on the cross/.test(w) ? 0 : Number(w.match(/([\\d.]+)′/)[1]) * (/right/.test(w) ? 1 : -1)));
    const centre = (name) => {
      for (let i = 0; i < 30 && offset(name)[0]; i += 1) put(at() + offset(name)[0] * minute);
    };
    for (let v = low; v <= high && !/^slit/.test(words()); v += 0.5) put(v);
    centre("slit");
    let [left, last] = [count, null];
    for (let v = at() + way * 60 * minute; v > low && v < high; v += way * 20 * minute) {
      put(v);
      const met = offset(`${colour} line`).filter((o) => Math.abs(o) <= 10.01);
      if (!met.length || (last !== null && Math.abs(v + met[0] * minute - last) < 5 * minute)) continue;
      last = v + met[0] * minute;
      left -= 1;
      if (left) continue;
      put(last);
      centre(`${colour} line`);
      return;
    }
    throw new Error(`no ${colour} line was met`);
  }
  if (sign in right) {
    const range = document.getElementById("bench-range");
    if (range) range.value = "100";
    put(low);
    const atFirst = right[sign].test(words());
    for (let i = 0; i < 40 && high - low > Number(move.step) / 2; i += 1) {
      const middle = (low + high) / 2;
      put(middle);
      if (/at zero|level/.test(words())) break;
      if (right[sign].test(words()) === atFirst) low = middle; else high = middle;
    }
    return;
  }
  // A greatest show: find it roughly, then where it fades alike on both sides, and take the middle.
  // Of several, a string's is told by its loops, a tone's is the first that is met.
  const row = document.querySelector(`input[data-slot="${CSS.escape(slot)}"]`)?.closest("tr");
  const loops = sign === "string" ? Number(row.querySelector("td.set input").value) : 0;
  const meant = () => !loops || words().includes(loops === 1 ? "in one loop" : `in ${loops} loops`);
  const size = () => Number(words().match(/(\\d+) of 100/)[1]);
  let best = low, most = -1;
  const step = (high - low) / 600;
  for (let v = low; v <= high && !(most > 80 && size() < 40); v += step) {
    put(v);
    if (meant() && size() > most) { most = size(); best = v; }
  }
  const half = (way) => {
    let [near, far] = [best, best + way * step];
    for (put(far); size() > 50 && far > low && far < high; far += way * step) put(far + way * step);
    for (let i = 0; i < 30; i += 1) { const m = (near + far) / 2; put(m); if (size() > 50) near = m; else far = m; }
    return (near + far) / 2;
  };
  put((half(-1) + half(1)) / 2);
}"""

_THUMB = """(laps) => new Promise((done, failed) => {
  setTimeout(() => failed(new Error("nothing swings")), 60000);
  // Presses each time the mark is passed to the right: an eye and a thumb without delay.
  const drawing = document.querySelector("#bench-sign svg");
  let presses = 0;
  const eye = new MutationObserver(() => {
    if (drawing.getAttribute("aria-label") !== "passing the mark to the right") return;
    document.getElementById("watch-go").click();
    presses += 1;
    if (presses > laps) { eye.disconnect(); done(); }
  });
  eye.observe(drawing, { attributes: true, attributeFilter: ["aria-label"] });
})"""

_FILM = r"""() => {
  // Steps through the film by halves: the last frame at rest, then the frame nearest to so many turns.
  const at = document.getElementById("frames-at");
  const drawing = document.querySelector("#bench-sign svg");
  const go = (frame) => { at.value = frame; at.dispatchEvent(new Event("input", { bubbles: true })); return drawing.getAttribute("aria-label"); };
  const turned = (frame) => {
    const words = go(frame);
    const m = words.match(/(\d+) turns? and (\d+)°/);
    return m ? Number(m[1]) + Number(m[2]) / 360 : 0;
  };
  let [low, high] = [0, 200];
  while (high - low > 1) { const m = (low + high) >> 1; if (go(m).endsWith("at rest")) low = m; else high = m; }
  go(low);
  document.getElementById("frames-first").click();
  const typed = document.querySelector('input[data-slot="quantities.N.1"]');
  const wanted = Number(typed.value || typed.placeholder);
  [low, high] = [low, 5000];
  while (high - low > 1) { const m = (low + high) >> 1; if (turned(m) < wanted) low = m; else high = m; }
  const nearest = Math.abs(turned(low) - wanted) < Math.abs(turned(high) - wanted) ? low : high;
  go(nearest);
  document.getElementById("frames-last").click();
}"""

_SECRETARY = """() => {
  // Writes down what the scale shows at each call, in the cell that the caller went to.
  const said = document.getElementById("call-said");
  new MutationObserver(() => {
    if (!/read now/.test(said.textContent)) return;
    setTimeout(() => {
      const cell = document.activeElement;
      const shown = document.querySelector("#bench-face svg").getAttribute("aria-label").match(/(?:nearest mark|shows) (-?[\\d.]+)/);
      if (!cell?.dataset?.slot || !shown) return;
      cell.value = shown[1];
      cell.dispatchEvent(new Event("input", { bubbles: true }));
    }, 0);
  }).observe(said, { childList: true, characterData: true, subtree: true });
}"""


def begin(page: Page, server: Server, experiment: str, speed: str = "300") -> "tuple[Robot, int]":
    """A new run with the simulated apparatus, whose truths are always the same ones, and its number."""
    run = started(page, server, experiment, f"Screen {experiment}", "Lantern", **{"on-screen": "yes"})
    with psycopg.connect(server.database, autocommit=True) as connection:
        connection.execute("insert into standin (run, seed) values (%s, 20261126)", [run])
    page.goto(f"{server.address}/runs/{run}/measure")
    page.wait_for_selector("html[data-ready=yes]")
    read_first(page)
    page.locator("#bench-speed").select_option(speed)
    return Robot(page), run


THREE = 0.0027
"""The chance of three standard uncertainties, where they are well known; few readings have Student's wider tails."""


def agreed(page: Page, server: Server, run: int) -> dict[str, tuple[float, str]]:
    """By result what a run found, (chance, text), after making sure that all of them agree with what the run hides."""
    truths = page.request.get(f"{server.address}/runs/{run}/instructor.json").json()["truths"]
    table = page.eval_on_selector_all(
        "#tables input[data-slot]", "all => all.filter((i) => i.value).map((i) => `${i.dataset.slot}=${i.value}`)"
    )
    assert truths
    for t in truths:
        assert t["chance"] is not None, f"{t['label']}: nothing found, hidden {t['true']}; read {table}"
        assert t["chance"] > THREE, f"{t['label']}: {t['found']}, hidden {t['true']}; read {table}"
    return {t["label"]: (t["chance"], t["found"]) for t in truths}


def drag(page: Page, to: float) -> None:
    """Take the contact with the pointer and move it to a share of its way."""
    page.locator("#bench-move").scroll_into_view_if_needed()
    box = page.locator("#bench-move").bounding_box()
    assert box
    now = page.evaluate(
        "() => { const m = document.getElementById('bench-move'); return (m.value - m.min) / (m.max - m.min); }"
    )
    y, reach = box["y"] + box["height"] / 2, box["width"] - 16
    page.mouse.move(box["x"] + 8 + now * reach, y)
    page.mouse.down()
    page.mouse.move(box["x"] + 8 + to * reach, y, steps=4)
    page.mouse.up()


class Robot:
    """``page``: at Measure, with the apparatus on. ``trials``: taken of what is read several times. ``hand``: how it works: ``quick`` by the
    events that a hand would cause, or with a real ``pointer``."""

    def __init__(self, page: Page, trials: int = 1, hand: str = "quick") -> None:
        self.page, self.trials, self.hand = page, trials, hand

    def carry_out(self, settings: Mapping[str, str]) -> None:
        """Set what ``settings`` says, slot by slot, and read everything else."""
        page = self.page
        for slot, text in settings.items():
            if page.locator(f'input[data-slot="{slot}"]').count():
                self.write(slot, text)
        self.saved()
        for slot in page.eval_on_selector_all("#tables input[data-slot]", "all => all.map((i) => i.dataset.slot)"):
            place = page.locator(f'input[data-slot="{slot}"]')
            if slot.startswith("mark:") or int(slot.split(".")[-1]) > self.trials or place.input_value():
                continue
            self.take(slot)

    def write(self, slot: str, text: str) -> None:
        """Type into a cell."""
        place = self.page.locator(f'input[data-slot="{slot}"]')
        if self.hand == "pointer":
            place.click()
            self.page.keyboard.type(text)
            self.page.keyboard.press("Escape")
            return
        place.fill(text)
        place.blur()

    def saved(self) -> None:
        expect(self.page.locator("#kept")).to_have_attribute("data-state", "saved")

    def look(self, slot: str) -> str:
        """Go to a cell and wait for its apparatus; which scene it is."""
        place = self.page.locator(f'input[data-slot="{slot}"]')
        place.click() if self.hand == "pointer" else place.focus()
        shown = self.page.wait_for_function(
            "slot => { const d = document.getElementById('screen-bench').dataset; return d.slot === slot && d.scene; }",
            arg=slot,
        )
        return str(shown.json_value())

    def take(self, slot: str) -> None:
        """Take one reading, with what it asks for."""
        scene = self.look(slot)
        if scene in ("not-yet", "none"):
            return
        if scene == "course":
            self.follow_calls()
        elif scene == "laps":
            self.time()
        elif scene == "film":
            self.page.evaluate(_FILM)
        elif scene == "slope":
            self.let_go(slot)
        else:
            if scene == "seek" and self.hand == "pointer":
                self.seek_by_pointer()
            elif scene == "seek":
                sign = self.page.locator("#bench-sign svg").get_attribute("data-sign")
                self.page.evaluate(_HALVING, [slot, self.line(slot) if sign == "spectrum" else None])
            elif scene == "count":
                self.page.locator("#bench-count").click()
                self.wait_for("counted")
            elif scene == "creep":
                self.wait_for("steady")
            self.write(slot, self.reads(slot))

    def line(self, slot: str) -> tuple[str, int]:
        """The line of a spectrum that its row asks for: its colour, and which of that colour it is, counted from the straight light."""
        cell = self.page.locator(f'tr:has(input[data-slot="{slot}"]) td.set input')
        column = str(cell.first.get_attribute("data-slot")).split(".")[1] if cell.count() else ""
        asked = float(cell.first.input_value()) if column in ("n", "lam", "j") else 0.0
        if column == "n":
            return {3: "red", 4: "blue-green", 5: "blue", 6: "violet"}[int(asked)], 1
        return (visible.name(asked * 1e-9), 1) if column == "lam" else ("yellow", int(asked))

    def wait_for(self, words: str) -> None:
        """Until the apparatus says so."""
        self.page.wait_for_function("words => document.getElementById('bench-state').textContent === words", arg=words)

    def reads(self, slot: str) -> str:
        """What the instrument shows, as it is written into the cell: from its label alone, the eye square to it."""
        if self.page.locator("#bench-eye").count():
            self.page.locator("#bench-eye").fill("0")
        said = str(self.page.locator("#bench-face svg").get_attribute("aria-label"))
        name = str(self.page.locator(f'input[data-slot="{slot}"]').get_attribute("aria-label"))
        unit = name.rpartition(", in ")[2] if ", in " in name else ""
        return read_label(said, unit)

    def seek_by_pointer(self) -> None:
        """Drag the contact towards where the sign says, by halves, as finely as the pointer can; then by small steps with the buttons."""
        page = self.page
        move = page.locator("#bench-move")
        low, high, step = (float(str(move.get_attribute(name))) for name in ("min", "max", "step"))
        first, whole = low, high - low
        right = re.compile(r" left of|left end|the current is(?!.*reversed)|dark")
        drag(page, 0.0)
        at_first = bool(right.search(str(page.locator("#bench-state").text_content())))

        def further() -> bool | None:
            words = str(page.locator("#bench-state").text_content())
            return None if re.search(r"at zero|level", words) else bool(right.search(words)) == at_first

        while (high - low) / whole > 0.012:
            drag(page, ((low + high) / 2 - first) / whole)
            at, more = float(move.input_value()), further()
            if more is None:
                return
            low, high = (max(at, low), high) if more else (low, min(at, high))
        many = max(1, round((high - low) / step))
        while many >= 1:
            more = further()
            if more is None:
                return
            many = many // 2 if many > 1 else 0
            for _ in range(max(many, 1)):
                page.locator(f'[data-nudge="{1 if more else -1}"]').click()

    def time(self) -> None:
        """Time laps with the deck's stopwatch."""
        page = self.page
        laps = int(str(page.locator("#deck").get_attribute("data-laps")))
        page.evaluate(f"({_THUMB})({laps})")

    def follow_calls(self) -> None:
        """Start the calls, and write down at each."""
        page = self.page
        page.evaluate(_SECRETARY)
        which = page.locator("#call-which")
        if which.count():
            every = page.eval_on_selector_all(
                "#call-which option", "all => all.findIndex((o) => o.textContent.startsWith('every'))"
            )
            which.select_option(index=every)
        # A spot that runs needs an eye that follows; minutes between two calls do not.
        fast = "20" if re.search(r"\b(5|10) s\b", str(page.locator("#calls").text_content())) else "300"
        page.locator("#bench-speed").select_option(fast)
        page.locator("#call-go").click()
        expect(page.locator("#call-go")).to_have_text(re.compile("Start"), timeout=60000)
        page.evaluate("document.activeElement.blur()")
        page.locator("#bench-speed").select_option("300")

    def let_go(self, slot: str) -> None:
        """Take samples, keep them, and take the stretch proposed."""
        page = self.page
        page.locator("#bench-go").click()
        page.locator("#bench-keep:not([disabled])").click()
        page.locator("#take-proposed").click()
        expect(page.locator("#proposed")).to_have_count(0)
        self.saved()


def read_label(said: str, unit: str) -> str:
    """A reading in ``unit`` from what a drawing's label says."""
    plain = re.search(r": (?:nearest mark|shows|says) (-?[\d.]+(?:e-?\d+)?|-?\d+°[\d.]+′)", said)
    if plain:
        return plain[1]
    circle = re.search(r"has passed (-?[\d.]+)°, line (\d+) of the vernier's (\d+)", said)
    if circle:
        minutes = round(float(circle[1]) * 60 + int(circle[2]) * 30 / int(circle[3]))
        return f"{minutes // 60}°{minutes % 60:02d}′"
    caliper = re.search(r"has passed (-?[\d.]+) mm, line (\d+) of the vernier's (\d+)", said)
    if caliper:
        return _in(float(caliper[1]) + int(caliper[2]) / int(caliper[3]), unit)
    screw = re.search(r"sleeve shows (-?[\d.]+) mm, line (\d+)", said)
    if screw:
        return _in(float(screw[1]) + int(screw[2]) / 100, unit)
    riders = re.search(r"riders at (\d+), (\d+) and ([\d.]+)", said)
    assert riders, said
    return f"{int(riders[1]) + int(riders[2]) + float(riders[3]):.1f}"


def _in(millimetres: float, unit: str) -> str:
    shown = millimetres * 1e-3 / units.unit(unit).factor
    return f"{shown:.{2 if unit == 'mm' else 3}f}"
