"""In the hand, at 390 pixels: remarks under their row, later trials a tap away, menus, one large press for a counted timing."""

from collections.abc import Callable, Iterator

import pytest
from playwright.sync_api import Page, expect

from tests.browser.test_measure import cell


@pytest.fixture(autouse=True)
def narrow(page: Page) -> Iterator[None]:
    page.set_viewport_size({"width": 390, "height": 844})
    yield


def typed(page: Page, slot: str, text: str) -> None:
    cell(page, slot).fill(text)
    page.keyboard.press("Escape")
    expect(page.locator("#kept")).to_have_attribute("data-state", "saved")


def test_a_remark_opens_under_its_row_and_goes_with_what_it_was_about(page: Page, new_run: Callable[..., int]) -> None:
    new_run("Under its row")
    typed(page, "swings.t.2.1", "forty")
    remark = page.locator("tr[data-at='swings.2'] + tr.remark-row details")
    expect(remark.locator("summary")).to_contain_text("is not a number")
    expect(remark.get_by_role("button", name="Go to it")).to_be_hidden()
    remark.locator("summary").click()
    remark.get_by_role("button", name="Go to it").click()
    expect(cell(page, "swings.t.2.1")).to_be_focused()
    # Another save draws the notes anew; what was opened stays open, and rows are still rows.
    typed(page, "swings.t.1.1", "31.0")
    expect(remark.get_by_role("button", name="Go to it")).to_be_visible()
    cell(page, "swings.t.1.1").focus()
    page.keyboard.press("Enter")
    expect(cell(page, "swings.t.2.1")).to_be_focused()
    typed(page, "swings.t.2.1", "40.0")
    expect(page.locator(".remark-row", has_text="is not a number")).to_have_count(0)
    page.set_viewport_size({"width": 1280, "height": 800})
    typed(page, "swings.t.2.1", "forty")
    expect(page.locator("#notes .note", has_text="is not a number")).to_be_visible()
    expect(page.locator(".remark-row")).to_have_count(0)


def test_later_trials_are_a_tap_away_and_open_where_the_keyboard_goes_there(
    page: Page, new_run: Callable[..., int]
) -> None:
    new_run("Five trials")
    expect(cell(page, "swings.t.1.3")).to_be_visible()
    expect(cell(page, "swings.t.1.4")).to_be_hidden()
    page.locator("[data-later]").click()
    expect(cell(page, "swings.t.1.4")).to_be_visible()
    page.locator("[data-later]").click()
    page.locator("[data-unfold^=table-menu]").click()
    page.locator("[data-next-way]").click()
    cell(page, "swings.t.1.3").focus()
    page.keyboard.press("Enter")
    expect(cell(page, "swings.t.1.4")).to_be_focused()


def test_a_timing_that_runs_is_one_large_press(page: Page, new_run: Callable[..., int]) -> None:
    new_run("A large press")
    go = page.locator("#watch-go")
    small = go.bounding_box()
    go.click()
    large = go.bounding_box()
    assert small and large
    assert large["height"] > 250 > 3 * small["height"]
    page.locator("#watch-spoilt").click()
    expect(page.locator("#deck")).not_to_have_attribute("data-running", "")


def test_a_device_is_offered_the_run_it_left(page: Page, new_run: Callable[..., int]) -> None:
    run = new_run("Left behind")
    home = page.url.partition("/runs/")[0]
    page.goto(f"{home}/")
    page.wait_for_selector("html[data-ready=yes]")
    expect(page.locator("#go-on")).to_contain_text("at Measure")
    page.get_by_role("link", name="Go on with Left behind").click()
    page.wait_for_url(f"**/runs/{run}/measure")
