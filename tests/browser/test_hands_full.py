"""Two tabs, two devices, keys alone, a missed beat, small windows: nothing lost, nothing covered, nothing in the wrong row."""

import re
from collections.abc import Callable

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.browser.conftest import Server
from tests.browser.test_measure import cell, saved
from tests.thorough import THOROUGH, thorough


def readings(page: Page, server: Server, run: int) -> dict[str, str]:
    entries = page.request.get(f"{server.address}/runs/{run}/logbook.json").json()["entries"]
    return {e["slot"]: e["body"]["text"] for e in entries if e["kind"] in ("reading", "correction")}


def opened(page: Page, server: Server, run: int, stage: str = "measure") -> None:
    page.goto(f"{server.address}/runs/{run}/{stage}")
    page.wait_for_selector("html[data-ready=yes]")


def test_two_tabs_of_one_run_lose_nothing(page: Page, server: Server, new_run: Callable[..., int]) -> None:
    """Both type forty readings at once while the server is away for a while; every one is there once, none stays stuck."""
    run = new_run("Two tabs", suggested=False)
    other = page.context.new_page()
    opened(other, server, run)
    wanted: dict[str, str] = {}
    server.kill()
    try:
        for tab, trials in ((page, (1, 2)), (other, (3, 4))):
            for trial in trials:
                for row in range(1, 9):
                    slot, text = f"swings.t.{row}.{trial}", f"{30 + row}.{trial}{row}"
                    wanted[slot] = text
                    tab.evaluate(
                        """([slot, text]) => { const i = document.querySelector(`input[data-slot="${slot}"]`);
                        i.focus(); i.value = text; i.dispatchEvent(new Event("input", {bubbles: true})); i.blur(); }""",
                        [slot, text],
                    )
    finally:
        server.start()
    for tab in (page, other):
        expect(tab.locator("#kept")).to_have_attribute("data-state", "saved", timeout=25000)
    assert readings(page, server, run) == wanted
    entries = page.request.get(f"{server.address}/runs/{run}/logbook.json").json()["entries"]
    assert len([e for e in entries if e["kind"] == "reading"]) == len(wanted)
    # Each tab shows the other's readings without being loaded again.
    expect(cell(page, "swings.t.8.4")).to_have_value(wanted["swings.t.8.4"])
    expect(cell(other, "swings.t.8.1")).to_have_value(wanted["swings.t.8.1"])


def test_another_device_sees_what_was_saved(
    page: Page, browser: Browser, server: Server, new_run: Callable[..., int]
) -> None:
    run = new_run("Two devices")
    context = browser.new_context()
    tablet = context.new_page()
    opened(tablet, server, run)
    cell(tablet, "swings.t.4.1").focus()
    cell(page, "swings.t.1.1").fill("31.11")
    page.keyboard.press("Enter")
    saved(page)
    expect(cell(tablet, "swings.t.1.1")).to_have_value("31.11")
    expect(cell(tablet, "swings.t.4.1")).to_be_focused()
    context.close()


@thorough
@pytest.mark.own_window
def test_a_page_from_memory_says_as_of_when_and_catches_up(
    page: Page, browser: Browser, server: Server, new_run: Callable[..., int]
) -> None:
    run = new_run("Old sheet")
    page.evaluate("navigator.serviceWorker.ready.then(() => true)")
    page.reload()
    page.wait_for_selector("html[data-ready=yes]")
    page.wait_for_timeout(400)
    other = browser.new_context().new_page()
    opened(other, server, run)
    page.goto("about:blank")
    cell(other, "swings.t.1.1").fill("31.11")
    other.keyboard.press("Enter")
    saved(other)
    server.kill()
    try:
        page.goto(f"{server.address}/runs/{run}/measure")
        page.wait_for_selector("html[data-ready=yes]")
        expect(page.locator("#kept")).to_have_text(re.compile("as of"))
    finally:
        server.start()
    expect(cell(page, "swings.t.1.1")).to_have_value("31.11", timeout=20000)
    other.context.close()


@thorough
def test_an_entry_that_breaks_the_server_is_set_aside_and_can_be_mended(
    page: Page, server: Server, new_run: Callable[..., int]
) -> None:
    run = new_run("Poisoned", suggested=False)

    def break_on(route, request):
        if '"6.66"' in (request.post_data or ""):  # the text, not a moment's 16.66 seconds
            return route.fulfill(status=500, json={"error": "Something went wrong", "what": "It broke."})
        return route.continue_()

    page.route("**/entries", break_on)
    for slot, text in (("swings.t.1.1", "6.66"), ("swings.t.2.1", "38.11")):
        cell(page, slot).fill(text)
        page.keyboard.press("Enter")
    expect(page.locator("#refused")).to_contain_text("It broke", timeout=25000)
    expect(page.locator("#kept")).to_have_attribute("data-state", "saved", timeout=20000)
    assert readings(page, server, run) == {"swings.t.2.1": "38.11"}
    page.get_by_role("button", name="correct it").click()
    expect(cell(page, "swings.t.1.1")).to_be_focused()
    cell(page, "swings.t.1.1").fill("31.66")
    page.keyboard.press("Enter")
    saved(page)
    expect(page.locator("#refused")).to_be_empty()
    assert readings(page, server, run)["swings.t.1.1"] == "31.66"


def test_the_cursor_stands_where_the_first_reading_goes(page: Page, new_run: Callable[..., int]) -> None:
    new_run("First cell")
    expect(page.locator("#tables input[data-slot]:focus")).to_have_count(1)
    page.keyboard.press("Escape")
    page.keyboard.type("31.11")  # with nothing in focus: into the first empty cell, whole
    focused = page.locator("#tables input[data-slot]:focus")
    expect(focused).to_have_value("31.11")


def test_tab_at_the_end_of_a_row_goes_on_and_digits_never_leave_the_page(
    page: Page, new_run: Callable[..., int]
) -> None:
    new_run("Row's end")
    cell(page, "swings.t.1.5").focus()
    page.keyboard.type("31.2")
    page.keyboard.press("Tab")
    expect(cell(page, "swings.L.2.1")).to_be_focused()
    page.keyboard.type("90.0")
    saved(page)
    assert "/measure" in page.url
    expect(cell(page, "swings.t.1.5")).to_have_value("31.2")


def test_n_and_x_do_not_type_themselves(page: Page, new_run: Callable[..., int]) -> None:
    new_run("Letters")
    cell(page, "swings.t.1.1").fill("31.11")
    page.keyboard.press("Escape")
    page.keyboard.press("n")
    page.keyboard.type("Floated")
    expect(page.locator("#ask-text")).to_have_value("Floated")
    page.locator("#ask-cancel").click()
    cell(page, "swings.t.1.1").focus()
    page.keyboard.press("Escape")
    page.keyboard.press("x")
    expect(page.locator("#ask-text")).to_have_value("")
    page.locator("#ask-cancel").click()
    page.keyboard.press("?")
    page.get_by_label("single-key shortcuts on").uncheck()
    page.keyboard.press("Escape")
    page.wait_for_timeout(400)
    page.locator("body").click(position={"x": 4, "y": 300})
    page.keyboard.press("n")
    expect(page.locator("#ask")).to_be_hidden()


@pytest.mark.own_window
def test_a_missed_beat_leaves_a_gap(page: Page, server: Server, new_run: Callable[..., int]) -> None:
    """The caller of a tenth of a minute: nothing is typed at beat two, and beat three still belongs to row three, with its own time."""
    page.clock.install()
    run = new_run("Missed", experiment="stefan-constant")
    which = page.locator("#call-which")
    if which.count():
        which.select_option(index=which.locator("option").count() - 1)
    page.locator("#call-go").click()
    page.keyboard.type("2.0")
    page.keyboard.press("Enter")
    page.clock.run_for(10_500)
    page.clock.run_for(10_000)
    expect(cell(page, "warming.x.3.1")).to_be_focused()
    page.keyboard.type("3.0")
    page.keyboard.press("Enter")
    page.clock.run_for(1000)
    expect(cell(page, "warming.x.2.1")).to_have_value("")
    expect(cell(page, "warming.t.3.1")).to_have_value("20")
    expect(cell(page, "warming.t.2.1")).to_have_value("10")
    assert run


@pytest.mark.parametrize(("width", "height"), [(1280, 800), (390, 844), (640, 400)] if THOROUGH else [(390, 844)])
def test_no_cell_is_covered_while_it_is_in_use(
    page: Page, new_run: Callable[..., int], width: int, height: int
) -> None:
    page.set_viewport_size({"width": width, "height": height})
    new_run("Covered")
    covered = page.evaluate(
        """async () => {
        const hidden = [];
        for (const input of document.querySelectorAll("#tables input[data-slot]")) {
          if (!input.offsetParent) continue; // a later trial, a tap away
          input.focus();
          await new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)));
          const box = input.getBoundingClientRect();
          const at = document.elementFromPoint(box.right - 6, box.top + box.height / 2);
          if (at !== input && !input.closest(".cell").contains(at)) hidden.push(input.dataset.slot);
        }
        return hidden; }"""
    )
    assert covered == []


def test_no_page_is_wider_than_its_window(page: Page, server: Server) -> None:
    wide = []
    paths = [
        "/",
        "/runs",
        "/experiments/pendulum",
        *(f"/runs/1/{s}" for s in ("measure", "plan", "fit", "result", "report")),
        *(f"/runs/{r}/measure" for r in (4, 9)),
        *["/runs/1/logbook", "/runs/1/export", "/runs/16/measure", "/runs/4/fit", "/runs/9/fit"] * THOROUGH,
    ]
    for path in paths:
        page.set_viewport_size({"width": 1280, "height": 800})
        page.goto(f"{server.address}{path}")
        page.wait_for_selector("html[data-ready=yes]")
        page.evaluate("for (const part of document.querySelectorAll('details')) part.open = true")
        for width in (1280, 820, 768, 390, 320):
            page.set_viewport_size({"width": width, "height": 800})
            size = page.evaluate("document.documentElement.scrollWidth")
            if size > width:
                wide.append((path, width, size))
    assert wide == []


def test_focus_survives_what_is_drawn_anew(page: Page, new_run: Callable[..., int]) -> None:
    new_run("Focus")
    button = page.get_by_role("button", name=re.compile(r"\+ trial"))
    button.focus()
    page.keyboard.press("Enter")
    expect(cell(page, "swings.t.1.6")).to_be_visible()
    expect(page.locator(":focus")).to_have_text(re.compile("trial"))
    cell(page, "swings.t.1.1").fill("31.11")
    page.keyboard.press("Enter")
    page.locator('.stage[data-stage="2"]').focus()
    saved(page)
    page.wait_for_timeout(300)
    expect(page.locator('.stage[data-stage="2"]')).to_be_focused()


def test_a_cell_drawn_anew_while_it_is_typed_in_is_kept_once(
    page: Page, server: Server, new_run: Callable[..., int]
) -> None:
    """Another page's reading arrives in the middle of a word: what stands half typed is neither kept early nor twice."""
    run = new_run("Drawn anew")
    other = page.context.new_page()
    other.goto(page.url)
    other.wait_for_selector("html[data-ready=yes]")
    cell(page, "swings.t.1.1").fill("31.1")
    cell(other, "swings.t.2.1").fill("38.11")
    other.keyboard.press("Enter")
    saved(other)
    page.evaluate("window.dispatchEvent(new Event('online'))")
    expect(cell(page, "swings.t.2.1")).to_have_value("38.11")
    expect(cell(page, "swings.t.1.1")).to_have_value("31.1")
    cell(page, "swings.t.1.1").press("End")
    page.keyboard.type("2")
    page.keyboard.press("Enter")
    saved(page)
    kept = page.request.get(f"{server.address}/runs/{run}/logbook.json").json()["entries"]
    assert [e["body"]["text"] for e in kept if e["slot"] == "swings.t.1.1"] == ["31.12"]


def test_the_list_of_keys_opens_and_closes_by_keys_alone(page: Page, server: Server) -> None:
    page.goto(f"{server.address}/runs/1/plan")
    page.wait_for_selector("html[data-ready=yes]")
    keys = page.locator("#keys")
    expect(keys).to_be_hidden()
    page.keyboard.press("?")
    expect(keys).to_be_visible()
    expect(keys.get_by_role("button", name="Close")).to_be_focused()
    page.keyboard.press("Escape")
    expect(keys).to_be_hidden()
    page.get_by_role("button", name="Keyboard shortcuts").click()
    expect(keys).to_be_visible()
    keys.get_by_role("button", name="Close").click()
    expect(keys).to_be_hidden()
