"""The table with hands full: a block pasted, the steps next to it, a reading left out by key, a watch that counts down."""

import re
from collections.abc import Callable

import pytest
from playwright.sync_api import Page, expect

from tests.browser.test_measure import cell, saved

PASTE = """([slot, text]) => {
    const cell = document.querySelector(`input[data-slot="${slot}"]`);
    const data = new DataTransfer();
    data.setData("text/plain", text);
    cell.focus();
    cell.dispatchEvent(new ClipboardEvent("paste", { clipboardData: data, bubbles: true, cancelable: true }));
}"""


def test_a_block_from_a_spreadsheet_is_pasted_where_the_cursor_stands(page: Page, new_run: Callable[..., int]) -> None:
    new_run("Pasted")
    block = "\n".join("\t".join(row) for row in [["60", "31,1", "31.05"], ["90", "", "38.2"], ["120", "44.1", "44.0"]])
    page.evaluate(PASTE, ["swings.L.7.1", f"{block}\r\n"])
    expect(page.locator("#r-swings-9")).to_be_visible()
    saved(page)
    page.reload()
    page.wait_for_selector("html[data-ready=yes]")
    for slot, text in {
        "L.7.1": "60",
        "t.7.1": "31,1",
        "t.7.2": "31.05",
        "t.8.1": "",
        "t.8.2": "38.2",
        "L.9.1": "120",
        "t.9.2": "44.0",
    }.items():
        expect(cell(page, f"swings.{slot}")).to_have_value(text)
    # One value is pasted as ever.
    page.evaluate(PASTE, ["swings.t.1.1", "31.4"])
    expect(cell(page, "swings.t.1.1")).to_have_value("")


def test_steps_stand_beside_the_table_and_what_can_spoil_it_one_key_away(
    page: Page, new_run: Callable[..., int]
) -> None:
    new_run("Step by step")
    steps = page.locator("#steps li")
    expect(page.locator("#steps .now")).to_contain_text("Hang the bob")
    steps.nth(0).get_by_role("checkbox").check()
    expect(page.locator("#steps .now")).to_contain_text("Pull it back")
    saved(page)
    page.reload()
    page.wait_for_selector("html[data-ready=yes]")
    expect(steps.nth(0).get_by_role("checkbox")).to_be_checked()
    page.keyboard.press("Escape")
    page.keyboard.press("p")
    expect(page.locator("#watch-out")).to_contain_text("Sources of error")


def test_a_reading_of_a_quantity_is_left_out_by_key_and_taken_back(page: Page, new_run: Callable[..., int]) -> None:
    new_run("Left out", experiment="conical-pendulum")
    for i, text in enumerate(("80", "81", "18"), 1):
        cell(page, f"quantities.r.{i}").fill(text)
        page.keyboard.press("Enter")
    saved(page)
    cell(page, "quantities.r.3").focus()
    page.keyboard.press("Escape")
    page.keyboard.press("x")
    expect(page.locator("#ask-title")).to_have_text("Why leave out reading 3?")
    page.get_by_role("button", name="miscounted").click()
    note = page.locator(".note", has_text="left out")
    expect(note).to_contain_text("reading 3 left out")
    expect(page.locator("#m-quantities-r-3")).to_have_class(re.compile("out"))
    note.get_by_role("button", name="Restore").click()
    expect(note).to_have_count(0)


def test_enter_goes_along_the_row_where_that_is_chosen(page: Page, new_run: Callable[..., int]) -> None:
    """Three trials of a row typed without leaving the keyboard; the choice outlives a reload, and arrows stay vertical."""
    new_run("Along")
    page.get_by_role("button", name="Enter: down").click()
    expect(page.get_by_role("button", name="Enter: along")).to_be_visible()
    cell(page, "swings.t.1.3").focus()
    for text in ("31.07", "31.11", "31.02"):
        page.keyboard.type(text)
        page.keyboard.press("Enter")
    for trial, text in ((3, "31.07"), (4, "31.11"), (5, "31.02")):
        expect(cell(page, f"swings.t.1.{trial}")).to_have_value(text)
    expect(cell(page, "swings.L.2.1")).to_be_focused()
    page.reload()
    page.wait_for_selector("html[data-ready=yes]")
    cell(page, "swings.t.3.2").focus()
    page.keyboard.press("Enter")
    expect(cell(page, "swings.t.3.3")).to_be_focused()
    page.keyboard.press("Shift+Enter")
    expect(cell(page, "swings.t.3.2")).to_be_focused()
    page.keyboard.press("ArrowDown")
    expect(cell(page, "swings.t.4.2")).to_be_focused()


def test_a_zero_is_read_at_the_column_as_often_as_one_likes(page: Page, new_run: Callable[..., int]) -> None:
    run = new_run("Zeros", experiment="spring")
    cell(page, "loads.l.1.1").fill("13.3")
    page.keyboard.press("Enter")
    saved(page)
    press = page.locator("[data-zero-of]")
    expect(press).to_have_count(1)
    for text, shown in (("0.2", "zero 0.2"), ("0.4", "zero 0.2; 0.4")):
        press.click()
        page.locator("#ask-text").fill(text)
        page.keyboard.press("Enter")
        expect(press).to_have_text(shown)
    home = page.url.partition("/runs/")[0]
    rows = page.request.get(f"{home}/runs/{run}/tables/loads.csv").text().splitlines()
    first = dict(zip(rows[0].split(","), rows[2].split(","), strict=True))
    assert first["l_typed"] == "13.3"
    assert float(first["l"]) == pytest.approx(13.0)
