"""The stopwatch alone, on a clock that the test moves: what is timed is what passed between presses."""

import pytest
from playwright.sync_api import Page, expect

from tests.browser.scripts.conftest import Bare

DECK = """<section id="deck" data-laps="3" data-fills="swings.t" data-decimals="2" data-lap="swing" data-plural="swings">
<div id="watch-time">0.00</div><div id="watch-goes"></div><div id="watch-true" data-thumb="0.1 s"></div><div id="watch-laps"></div>
<span id="watch-count"></span><span id="watch-last"></span><input type="checkbox" id="watch-ends"><input type="checkbox" id="watch-down">
<button id="watch-go">Start <kbd>Space</kbd></button><button id="watch-spoilt" disabled>Discard</button></section>
<p id="out" tabindex="-1">outside</p><div id="tables"><table data-series="swings"><tbody>%s</tbody></table></div>"""
ROW = '<tr data-at="swings.{0}"><td class="cell"><input data-slot="swings.t.{0}.1" data-saved="" value=""></td></tr>'
BODY = DECK % "".join(ROW.format(i) for i in (1, 2))


@pytest.fixture
def page(bare: Bare) -> Page:
    bare.page.clock.install()
    return begun(bare)


def begun(bare: Bare) -> Page:
    page = bare.open(BODY, "watch", "pending")
    page.clock.pause_at(page.evaluate("Date.now() + 1000") / 1000)
    page.evaluate("watch.start()")
    page.focus("#out")
    return page


def presses(page: Page, *after: int) -> None:
    """The space bar, each time so many milliseconds after the last."""
    for wait in after:
        page.clock.run_for(wait)
        page.keyboard.press(" ")


def timing(bare: Bare) -> dict:
    """What was sent of the first timing, as soon as it was."""
    for _ in range(200):
        sent = [entry["body"] for batch in bare.sent for entry in batch["entries"] if entry["kind"] == "timer"]
        if sent:
            assert len(sent) == 1
            return sent[0]
        bare.page.wait_for_timeout(25)
    raise AssertionError("no timing was sent")


def value(page: Page, row: int) -> str:
    return page.locator(f'[data-slot="swings.t.{row}.1"]').input_value()


def test_it_counts_laps_stops_at_the_last_and_fills_the_cell(bare: Bare, page: Page) -> None:
    presses(page, 0, 1500, 1400)
    assert page.locator("#watch-last").inner_text() == "last swing 1.40 s"
    expect(page.locator("#watch-count")).to_have_text("2 of 3 swings")
    assert value(page, 1) == ""
    presses(page, 1610)
    assert value(page, 1) == "4.51"
    assert timing(bare) == {"laps": [1.5, 2.9, 4.51], "spoilt": False, "slot": "swings.t.1.1", "counted": True}
    expect(page.locator("#watch-goes")).to_have_text("next: row 2")


def test_who_counts_alone_presses_twice(bare: Bare, page: Page) -> None:
    page.check("#watch-ends")
    page.focus("#out")
    presses(page, 0, 4520)
    assert value(page, 1) == "4.52"
    assert timing(bare)["counted"] is False
    assert page.evaluate("localStorage.getItem('cavrel.watch.ends')") == "yes"


def test_a_watch_that_runs_goes_on_through_a_reload(bare: Bare, page: Page) -> None:
    presses(page, 0, 1000)
    page = begun(bare)  # loads it anew
    expect(page.locator("#watch-count")).to_have_text("1 of 3 swings")
    presses(page, 700, 500)
    first, second, third = timing(bare)["laps"]
    assert first == 1.0
    assert second >= 1.7, "it began anew"
    assert third - second == pytest.approx(0.5)
    assert page.evaluate("localStorage.getItem('cavrel.watch.S.7')") is None


def test_spoilt_keeps_the_timing_and_fills_nothing(bare: Bare, page: Page) -> None:
    presses(page, 0, 1500)
    page.click("#watch-spoilt")
    assert value(page, 1) == ""
    assert timing(bare) == {"laps": [1.5], "spoilt": True, "slot": "swings.t.1.1", "counted": True}
    expect(page.locator("#watch-spoilt")).to_be_disabled()
    expect(page.locator("#watch-time")).to_have_text("0.00")


def test_a_countdown_starts_at_zero_and_can_be_called_off(bare: Bare, page: Page) -> None:
    page.check("#watch-down")
    page.check("#watch-ends")
    page.focus("#out")
    presses(page, 0)
    expect(page.locator("#watch-time")).to_have_text("−3")
    page.clock.run_for(2000)
    expect(page.locator("#watch-time")).to_have_text("−1")
    presses(page, 0)
    page.clock.run_for(5000)
    assert page.evaluate("localStorage.getItem('cavrel.watch.S.7')") is None, "it runs though it was called off"
    presses(page, 0, 3000 + 4520)
    assert value(page, 1) == "4.52"


def test_space_is_a_reading_in_a_cell_that_holds_one(bare: Bare, page: Page) -> None:
    first = page.locator('[data-slot="swings.t.1.1"]')
    first.fill("4.5")
    first.press(" ")
    assert first.input_value() == "4.5 "
    assert page.evaluate("localStorage.getItem('cavrel.watch.S.7')") is None
    page.locator('[data-slot="swings.t.2.1"]').press(" ")  # an empty one is what the watch fills
    presses(page, 1000, 1000, 1000)
    assert (value(page, 1).strip(), value(page, 2)) == ("4.5", "3.00")


def test_a_held_key_is_one_press(bare: Bare, page: Page) -> None:
    page.keyboard.down(" ")
    for _ in range(5):
        page.keyboard.down(" ")  # a key held down repeats
    page.keyboard.up(" ")
    expect(page.locator("#watch-count")).to_have_text("0 of 3 swings")
    assert page.evaluate("localStorage.getItem('cavrel.watch.S.7')") is not None


def test_nothing_is_filled_where_every_cell_is(bare: Bare, page: Page) -> None:
    page.evaluate("for (const input of document.querySelectorAll('#tables input')) input.value = '9'")
    presses(page, 0, 1, 1, 1)
    assert (value(page, 1), value(page, 2)) == ("9", "9")
    assert timing(bare)["slot"] == ""


def test_a_course_with_a_decimal_comma_gets_one_from_the_watch(bare: Bare) -> None:
    bare.page.clock.install()
    page = bare.open(BODY)
    page.evaluate("document.body.dataset.decimal = 'comma'")
    page.evaluate("async () => { window.watch = await import('/js/watch.js'); }")
    page.clock.pause_at(page.evaluate("Date.now() + 1000") / 1000)
    page.evaluate("watch.start()")
    page.focus("#out")
    presses(page, 0, 1500, 1400, 1610)
    assert value(page, 1) == "4,51"
    assert page.locator("#watch-time").inner_text() == "4,51"
