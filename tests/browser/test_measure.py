"""Measuring at the real interface: typing, timing, remarks, corrections, leaving out, undo."""

import re
from collections.abc import Callable

from playwright.sync_api import Page, expect

from tests.browser.conftest import Server

LENGTHS = ["60.0", "100.0", "140.0", "180.0"]
TIMES = [["31.1", "31.05"], ["40.12", "40.18"], ["47.48", "47.41"], ["53.80", "53.88"]]


def cell(page: Page, slot: str):
    return page.locator(f'input[data-slot="{slot}"]')


def saved(page: Page) -> None:
    """All is saved, and the page shows what follows from it."""
    expect(page.locator("#kept:not([data-behind])")).to_have_attribute("data-state", "saved")
    expect(page.locator("#kept")).to_contain_text("saved")


def type_run(page: Page) -> None:
    for i, length in enumerate(LENGTHS):
        cell(page, f"swings.L.{i + 1}.1").click()
        page.keyboard.type(length)
        for text in TIMES[i]:
            page.keyboard.press("Tab")
            page.keyboard.type(text)
    page.keyboard.press("Enter")
    saved(page)


def test_a_run_from_experiments_to_g(page: Page, server: Server) -> None:
    page.goto(server.address)
    page.get_by_role("link", name=re.compile("Free-fall acceleration from a pendulum")).click()
    page.get_by_label("Bench").select_option(label="Beacon")
    page.get_by_role("button", name="Start measuring").click()
    expect(page.get_by_role("heading", name="Timed swings")).to_be_visible()
    page.wait_for_selector("html[data-ready=yes]")
    expect(page.locator("#opened")).to_have_attribute("inert", "")
    page.locator("#gate-read").click()
    expect(page.locator("#rail")).not_to_contain_text("unread")
    # The grey 20 is no reading until somebody takes it.
    expect(page.locator("#notes")).to_contain_text("A suggested value is not used yet")
    page.get_by_role("button", name="Use this value").click()
    expect(cell(page, "quantities.N.1")).to_have_value("20")
    type_run(page)
    expect(page.locator("#notes")).not_to_contain_text("not used yet")
    # Everything that follows stands on the page without loading it again.
    expect(page.locator("#c-swings-1-T")).to_have_text(re.compile(r"1\.55"))
    expect(page.locator("#rail")).to_contain_text("8 of 40 readings")
    expect(page.locator("#live-graph .pt")).to_have_count(4)
    page.keyboard.press("Escape")
    page.keyboard.press("Alt+3")
    expect(page.get_by_role("heading", name="Period squared against length")).to_be_visible()
    expect(page.locator(".line-reading .slope")).to_have_text("slope")
    expect(page.locator(".line-reading")).to_contain_text("m/s²")
    page.wait_for_selector("html[data-ready=yes]")
    page.keyboard.press("Alt+4")
    expect(page.locator("#result-g")).to_be_visible()
    expect(page.locator(".value-big").first).to_contain_text(re.compile(r"9\.8\d ± 0\.0\d"))
    expect(page.locator(".verdict").first).to_contain_text("Agrees")
    page.get_by_role("link", name=re.compile("Logbook")).click()
    expect(page.locator(".log tbody tr[id]")).to_have_count(14)


def test_enter_goes_down_tab_goes_right_and_shift_goes_back(page: Page, new_run: Callable[..., int]) -> None:
    new_run()
    cell(page, "swings.t.1.1").click()
    page.keyboard.type("31.11")
    page.keyboard.press("Enter")
    expect(cell(page, "swings.t.2.1")).to_be_focused()
    page.keyboard.press("Tab")
    expect(cell(page, "swings.t.2.2")).to_be_focused()
    page.keyboard.press("Shift+Enter")
    expect(cell(page, "swings.t.1.2")).to_be_focused()
    page.keyboard.press("Shift+Tab")
    expect(cell(page, "swings.t.1.1")).to_be_focused()
    expect(cell(page, "swings.t.1.1")).to_have_value("31.11")


def test_the_watch_counts_stops_at_n_and_fills_the_active_trial(page: Page, new_run: Callable[..., int]) -> None:
    run = new_run()
    cell(page, "quantities.N.1").fill("5")
    page.keyboard.press("Enter")
    saved(page)
    cell(page, "swings.t.3.2").click()
    page.keyboard.press("Escape")
    expect(page.locator("#watch-goes")).to_have_text("next: row 3, trial 2")
    expect(page.locator("#watch-laps i")).to_have_count(5)
    for count in range(6):
        page.keyboard.press("Space")
        page.wait_for_timeout(120)
        if count == 3:
            expect(page.locator("#watch-laps i.on")).to_have_count(3)
    value = float(cell(page, "swings.t.3.2").input_value())
    assert 0.55 < value < 3
    expect(cell(page, "swings.t.3.3")).to_be_focused()
    saved(page)
    entries = page.request.get(page.url.replace("/measure", "/logbook.json")).json()["entries"]
    timer = next(e for e in entries if e["kind"] == "timer")
    assert len(timer["body"]["laps"]) == 5
    assert timer["body"]["laps"] == sorted(timer["body"]["laps"])
    reading = next(e for e in entries if e["slot"] == "swings.t.3.2")
    assert reading["body"]["by"] == "stopwatch"
    assert abs(timer["body"]["laps"][-1] - float(reading["body"]["text"])) <= 0.0051
    assert run


def test_a_spoilt_timing_fills_nothing_and_stays_on_record(page: Page, new_run: Callable[..., int]) -> None:
    new_run()
    page.keyboard.press("Space")
    page.wait_for_timeout(150)
    page.keyboard.press("Space")
    page.get_by_role("button", name="Discard").click()
    expect(page.locator("#watch-time")).to_have_text("0.00")
    expect(cell(page, "swings.t.1.1")).to_have_value("")
    saved(page)
    entries = page.request.get(page.url.replace("/measure", "/logbook.json")).json()["entries"]
    assert [e["body"]["spoilt"] for e in entries if e["kind"] == "timer"] == [True]


def test_a_running_watch_survives_a_reload(page: Page, new_run: Callable[..., int]) -> None:
    new_run()
    page.locator("#watch-ends").check()
    page.locator("#watch-go").click()
    page.wait_for_timeout(400)
    page.reload()
    page.wait_for_selector("html[data-ready=yes]")
    page.wait_for_timeout(200)
    page.locator("#watch-go").click()
    assert 0.6 < float(cell(page, "swings.t.1.1").input_value()) < 6


def test_an_implausible_reading_is_kept_and_remarked_on(page: Page, new_run: Callable[..., int]) -> None:
    new_run()
    cell(page, "swings.L.1.1").fill("60.0")
    cell(page, "swings.t.1.1").fill("3.11")
    page.keyboard.press("Enter")
    note = page.locator(".note", has_text="3.11?")
    expect(note).to_be_visible()
    expect(cell(page, "swings.t.1.1")).to_have_value("3.11")
    # The oval stands round the number, as far above it as below.
    oval, number = page.locator("#m-swings-t-1-1.suspect").bounding_box(), cell(page, "swings.t.1.1").bounding_box()
    assert oval and number
    assert abs(oval["y"] + oval["height"] / 2 - number["y"] - number["height"] / 2) < 1.5
    assert oval["height"] > 22
    # The note lights its cell up, and the cell its note.
    note.click()
    expect(page.locator('td[data-slot="swings.t.1.1"]')).to_have_class(re.compile("lit"))
    cell(page, "swings.t.1.1").focus()
    expect(note).to_have_class(re.compile("lit"))
    note.get_by_role("button", name="Keep").click()
    expect(page.locator(".note", has_text="kept")).to_be_visible()


def test_what_is_no_number_is_kept_as_written(page: Page, new_run: Callable[..., int]) -> None:
    run = new_run()
    cell(page, "swings.t.1.1").fill("31.1l")
    page.keyboard.press("Enter")
    expect(page.locator(".note", has_text="is not a number")).to_be_visible()
    page.reload()
    expect(cell(page, "swings.t.1.1")).to_have_value("31.1l")
    assert run


def test_a_correction_keeps_the_old_text_and_asks_for_a_reason(page: Page, new_run: Callable[..., int]) -> None:
    new_run()
    cell(page, "swings.t.1.1").fill("13.11")
    page.keyboard.press("Enter")
    saved(page)
    cell(page, "swings.t.1.1").fill("31.11")
    page.keyboard.press("Enter")
    expect(page.locator("#w-swings-t-1-1")).to_have_text("13.11")
    page.locator(".note", has_text="corrected: why?").get_by_role("button", name="Give the reason…").click()
    page.get_by_role("button", name="typing error").click()
    expect(page.locator(".note", has_text="“typing error”")).to_be_visible()
    expect(cell(page, "swings.t.1.1")).to_have_value("31.11")


def test_leaving_a_trial_out_needs_a_reason_and_can_be_taken_back(page: Page, server: Server) -> None:
    page.goto(f"{server.address}/runs/1/measure")
    page.wait_for_selector("html[data-ready=yes]")
    note = page.locator(".note", has_text="one swing’s worth")
    note.get_by_role("button", name="Leave out…").click()
    page.locator("#ask-save").click()
    expect(page.locator("#ask")).to_be_visible()  # an empty reason is none
    page.locator("#ask-text").fill("counted nineteen")
    page.keyboard.press("Enter")
    expect(page.locator(".note", has_text="“counted nineteen”")).to_be_visible()
    expect(page.locator("#m-swings-t-5-3")).to_have_class(re.compile("out"))
    expect(page.locator("#c-swings-5-t")).to_have_text("56.05")
    page.get_by_role("button", name="Restore").click()
    expect(page.locator("#m-swings-t-5-3")).to_have_class(re.compile("suspect"))


def test_undo_takes_back_the_last_entry_and_the_logbook_keeps_both(page: Page, new_run: Callable[..., int]) -> None:
    new_run(suggested=False)
    cell(page, "swings.t.1.1").fill("31.11")
    page.keyboard.press("Enter")
    saved(page)
    page.keyboard.press("Escape")
    page.keyboard.press("u")
    expect(cell(page, "swings.t.1.1")).to_have_value("")
    entries = page.request.get(page.url.replace("/measure", "/logbook.json")).json()["entries"]
    assert [e["kind"] for e in entries if e["kind"] != "tick"] == ["reading", "undo"]


def test_another_row_and_a_note_by_key(page: Page, new_run: Callable[..., int]) -> None:
    new_run()
    page.keyboard.press("Escape")  # out of the first cell, where the cursor stands
    page.keyboard.press("a")
    expect(cell(page, "swings.L.9.1")).to_be_visible()
    page.keyboard.press("n")
    page.locator("#ask-text").fill("The draught from the lamp room moves the thread.")
    page.keyboard.press("Enter")
    expect(page.locator(".note", has_text="draught from the lamp room")).to_be_visible()


def test_the_suggested_settings_fill_the_set_column(page: Page, new_run: Callable[..., int]) -> None:
    new_run()
    page.get_by_role("button", name="use the suggested settings").click()
    expect(cell(page, "swings.L.8.1")).to_have_value("180.0")
    saved(page)
    page.reload()
    expect(cell(page, "swings.L.1.1")).to_have_value("40.0")
