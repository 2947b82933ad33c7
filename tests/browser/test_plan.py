"""Plan through its real page: from bare to Measure, by pointer, by keyboard alone, on a telephone, and across a crash."""

import re
from collections.abc import Callable

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import Server
from tests.browser.test_measure import cell, saved
from tests.thorough import THOROUGH


def plan(page: Page, server: Server, run: int) -> None:
    page.goto(f"{server.address}/runs/{run}/plan")
    page.wait_for_selector("html[data-ready=yes]")
    unfold(page)


def unfold(page: Page) -> None:
    """Open every folded part; the tab remembers it."""
    for name in page.locator("details.fold:not([open]) > summary b").all_inner_texts():
        page.locator("details.fold > summary", has_text=name).first.click()


def field(page: Page, slot: str):
    return page.locator(f'[data-slot="{slot}"]')


def entries(page: Page, server: Server, run: int) -> list[dict]:
    return page.request.get(f"{server.address}/runs/{run}/logbook.json").json()["entries"]


def promised(page: Page) -> float:
    text = page.locator(".promise-first p").first.inner_text()
    found = re.search(r"± ([\d.]+)", text)
    assert found, text
    return float(found[1])


def test_from_bare_to_measure(page: Page, server: Server, new_run: Callable[..., int]) -> None:
    run = new_run("Planned pendulum", read=False)
    page.get_by_role("link", name=re.compile("^Plan")).click()
    page.wait_for_selector("html[data-ready=yes]")
    unfold(page)
    expect(page.locator("#rail")).to_contain_text("8 lengths × 5, 1 caution unread")
    before = promised(page)
    page.get_by_label(re.compile("Keep the swing clear")).check()
    expect(page.locator("#rail")).not_to_contain_text("unread")
    expect(page.locator("#safety")).to_contain_text("Foghorn, ")
    points = field(page, "settings:swings.L")
    points.fill("60; 100; 140; 180")
    page.keyboard.press("Enter")
    expect(page.locator("#pegs-swings-L .peg")).to_have_count(4)
    expect(page.locator("#rail")).to_contain_text("4 lengths × 5")
    page.get_by_label("one trial of Time for N swings less").click()
    expect(page.locator("#rail")).to_contain_text("4 lengths × 4")
    page.wait_for_function(
        f"() => parseFloat(document.querySelector('.promise-first .digits').textContent.split('±')[1]) > {before}"
    )
    page.get_by_role("button", name=re.compile("Use this: 40 swings")).click()
    expect(field(page, "quantities.N.1")).to_have_value("40")
    page.wait_for_function(
        f"() => parseFloat(document.querySelector('.promise-first .digits').textContent.split('±')[1]) < {2 * before}"
    )
    page.get_by_label("square root").check(force=True)
    field(page, "words:foreseen.g").fill("about 9.8, for we are near the sea")
    field(page, "words:role.times").fill("Ines")
    page.keyboard.press("Enter")
    saved(page)
    page.get_by_role("link", name="Measure", exact=True).click()
    page.wait_for_selector("html[data-ready=yes]")
    expect(page.locator("#rail")).to_contain_text("0 of 16 readings")
    expect(cell(page, "swings.L.3.1")).to_have_attribute("placeholder", "140")
    expect(cell(page, "swings.t.4.4")).to_be_visible()
    expect(cell(page, "swings.L.5.1")).to_have_count(0)
    kinds = {e["kind"] for e in entries(page, server, run)}
    assert {"tick", "settings", "trials", "reading", "foresee", "words"} <= kinds
    page.get_by_role("link", name=re.compile("Logbook")).click()
    expect(page.locator(".log")).to_contain_text("4 set points: 60, 100, 140, 180 cm")


def test_by_keyboard_alone(page: Page, server: Server, new_run: Callable[..., int]) -> None:
    run = new_run("Planned by keys", experiment="spring")
    page.keyboard.press("Alt+1")
    page.wait_for_selector("html[data-ready=yes]")
    assert page.url.endswith("/plan")
    unfold(page)
    peg = page.locator("#pegs-loads-n .peg").nth(7)
    peg.focus()
    page.keyboard.press("ArrowRight")
    page.keyboard.press("ArrowRight")
    page.keyboard.press("Tab")
    expect(field(page, "settings:loads.n")).to_have_value(re.compile(r"  10$"))
    saved(page)
    assert entries(page, server, run)[-1]["body"]["texts"][-1] == "10"
    field(page, "words:reason.range").focus()
    page.keyboard.type("up to where it still springs back")
    page.keyboard.press("Tab")
    saved(page)
    page.locator("#ask-percent").focus()
    page.keyboard.press("Control+a")
    page.keyboard.type("0.3")
    page.keyboard.press("Enter")
    expect(page.locator("#answer")).to_contain_text(re.compile("loads instead of|at best"))
    page.locator("#ask-minutes").focus()
    page.keyboard.press("Control+a")
    page.keyboard.type("soon")
    page.keyboard.press("Enter")
    expect(page.locator("#answer")).to_contain_text("not a number")


def test_a_set_point_outside_is_refused_with_the_reason(
    page: Page, server: Server, new_run: Callable[..., int]
) -> None:
    run = new_run("Too long", read=False, suggested=False)
    plan(page, server, run)
    field(page, "settings:swings.L").fill("60 100 900")
    page.keyboard.press("Tab")
    expect(page.locator(".set-points .fault.own")).to_contain_text(
        "900 is outside the range of this experiment, 20 to 600"
    )
    assert entries(page, server, run) == []
    page.reload()
    page.wait_for_selector("html[data-ready=yes]")
    expect(field(page, "settings:swings.L")).to_have_value("60 100 900")  # not kept, and not lost
    expect(page.locator(".set-points .fault.own")).to_contain_text("900 is outside")
    field(page, "settings:swings.L").fill("60 100 90O")
    page.keyboard.press("Tab")
    expect(page.locator("#refused")).to_contain_text("set point 3")
    expect(page.locator("#refused")).to_contain_text("60  100  90O")
    assert entries(page, server, run) == []


def test_a_peg_is_dragged_to_what_can_be_set(page: Page, server: Server, new_run: Callable[..., int]) -> None:
    run = new_run("Dragged")
    plan(page, server, run)
    page.locator("#pegs-swings-L").scroll_into_view_if_needed()
    box = page.locator("#pegs-swings-L .peg circle").nth(7).bounding_box()
    assert box
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + 5)
    page.mouse.down()
    page.mouse.move(box["x"] + 60, box["y"] + 5, steps=5)
    page.mouse.up()
    saved(page)
    texts = entries(page, server, run)[-1]["body"]["texts"]
    assert re.fullmatch(r"\d+\.\d", texts[-1])
    assert float(texts[-1]) > 180


def test_half_typed_words_survive_a_reload(page: Page, server: Server, new_run: Callable[..., int]) -> None:
    run = new_run("Half typed")
    plan(page, server, run)
    field(page, "words:reason.step").focus()
    page.keyboard.type("so that each swing can be told from the ne")
    page.reload()
    page.wait_for_selector("html[data-ready=yes]")
    expect(field(page, "words:reason.step")).to_have_value("so that each swing can be told from the ne")
    saved(page)
    assert entries(page, server, run)[-1]["body"]["text"].startswith("so that each swing")


def test_a_zero_reading_is_taken_off_and_another_instrument_reads_otherwise(
    page: Page, server: Server, new_run: Callable[..., int]
) -> None:
    run = new_run("Zero read")
    cell(page, "swings.L.1.1").fill("100.0")
    page.keyboard.press("Enter")
    cell(page, "swings.t.1.1").fill("40.00")
    page.keyboard.press("Enter")
    saved(page)
    plan(page, server, run)
    page.get_by_label("Zero reading of the metre rule").fill("0.4 cm")
    page.keyboard.press("Enter")
    saved(page)
    page.get_by_label("Instrument for Time for N swings").select_option("photogate timer")
    expect(page.locator("#ask-title")).to_contain_text("1 reading was taken with it so far")
    # Nothing is changed until somebody says for what it holds.
    expect(page.get_by_label("Instrument for Time for N swings")).to_have_value("")
    with page.expect_event("load"):  # other decimals and tables: the page is asked for anew
        page.get_by_role("button", name="from now on").click()
    page.wait_for_function(
        "() => document.querySelector('[data-instrument=watch]').value === 'photogate timer' && document.documentElement.dataset.ready === 'yes'"
    )
    saved(page)
    found = page.request.get(f"{server.address}/runs/{run}/measure.json").json()
    assert found["result"]["series"]["swings"]["L"]["values"][0] == pytest.approx(99.6)
    assert found["run"]["instruments"] == {"watch": {"kind": "photogate timer", "label": "photogate timer"}}
    assert found["run"]["taken_with"]["watch"][0]["places"] == ["swings.t.1.1"]
    page.goto(f"{server.address}/runs/{run}/measure")
    page.wait_for_selector("html[data-ready=yes]")
    expect(page.locator(".exchanged")).to_have_text(
        "Time for N swings: row 1 with the stopwatch; after that with the photogate timer."
    )
    expect(page.locator("tr.exchange th")).to_have_text("2")


def test_an_instrument_that_it_was_all_along_is_a_correction_with_a_reason(
    page: Page, server: Server, new_run: Callable[..., int]
) -> None:
    run = new_run("The other watch")
    cell(page, "swings.L.1.1").fill("100.0")
    page.keyboard.press("Enter")
    cell(page, "swings.t.1.1").fill("40.00")
    page.keyboard.press("Enter")
    saved(page)
    plan(page, server, run)
    page.get_by_label("Instrument for Time for N swings").select_option("photogate timer")
    page.locator("#ask-text").fill("the gate was on the bench from the start")
    with page.expect_event("load"):
        page.locator("#ask-text").press("Enter")
    page.wait_for_selector("html[data-ready=yes]")
    saved(page)
    found = page.request.get(f"{server.address}/runs/{run}/measure.json").json()["run"]
    assert "taken_with" not in found or found["taken_with"] == {}
    assert found["instruments"]["watch"]["kind"] == "photogate timer"
    page.goto(f"{server.address}/runs/{run}/logbook")
    expect(page.locator("main")).to_contain_text("from the start: “the gate was on the bench from the start”")


def test_on_a_telephone(page: Page, server: Server, new_run: Callable[..., int]) -> None:
    page.set_viewport_size({"width": 390, "height": 844})
    run = new_run("By thumb", experiment="metre-bridge", read=False)
    plan(page, server, run)
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    for tick in page.locator(".tick.caution input").all():
        tick.check()
    expect(page.locator("#rail")).not_to_contain_text("unread")
    page.get_by_label("one trial of Null, from the left end more").first.click()
    saved(page)
    page.set_viewport_size({"width": 320, "height": 800})
    assert page.evaluate("document.documentElement.scrollWidth") <= 320


@pytest.mark.parametrize("experiment", ["half-life", *(["torsion-balance", "projectile-range"] * THOROUGH)])
def test_other_experiments_are_planned(
    page: Page, server: Server, new_run: Callable[..., int], experiment: str
) -> None:
    run = new_run("Planned", experiment=experiment)
    plan(page, server, run)
    promised(page)
    expect(page.locator("#promises")).to_contain_text("minutes, set-up included")
    for tick in page.locator(".tick input").all():
        tick.check()
    saved(page)
    page.get_by_role("link", name="Measure", exact=True).click()
    expect(page.locator("#rail")).to_contain_text("0 of ")


def test_a_column_of_ones_own_is_typed_in_and_survives_a_reload_half_typed(
    page: Page, server: Server, new_run: Callable[..., int]
) -> None:
    run = new_run("Own column")
    plan(page, server, run)
    page.locator("#own-swings > summary").click()
    form = page.locator("form[data-add-column=swings]")
    form.get_by_label("Letter").fill("q")
    form.get_by_label("Formula").fill("T + L")
    page.reload()
    page.wait_for_selector("html[data-ready=yes]")
    expect(form.get_by_label("Formula")).to_have_value("T + L")
    form.get_by_role("button", name="Add column").click()
    expect(page.locator("#refused")).to_contain_text("cannot add 'T' (s) and 'L' (m)")
    expect(page.locator("#refused")).to_contain_text("You typed: T + L")
    page.locator("#refused").get_by_role("button", name="discard it").click()
    # Another device's save draws the table anew, and takes nothing of what is half typed with it.
    form.get_by_label("Letter").fill("q")
    form.get_by_label("Heading").fill("Ratio")
    other = page.context.new_page()
    other.goto(f"{server.address}/runs/{run}/plan")
    other.wait_for_selector("html[data-ready=yes]")
    other.locator("#rows-swings-more").click()
    expect(page.locator("#ruled")).to_contain_text("−9+", timeout=20000)
    other.close()
    expect(form.get_by_label("Heading")).to_have_value("Ratio")
    expect(form.get_by_label("Letter")).to_have_value("q")
    form.get_by_label("Start from").select_option("T/above(T)")
    form.get_by_role("button", name="Add column").click()
    expect(page.locator("[data-remove-column='swings.q']")).to_be_visible()
