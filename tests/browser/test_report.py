"""The report at the page: drafts taken and rewritten, nothing lost when the server dies while a part is being written."""

from collections.abc import Callable

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import Server
from tests.browser.test_fit import at, readings, typed
from tests.browser.test_measure import saved
from tests.thorough import thorough


@pytest.fixture
def run(page: Page, new_run: Callable[..., int]) -> int:
    made = new_run("A bob written up")
    typed(page, readings())
    return made


def test_a_draft_is_taken_and_another_rewritten(page: Page, server: Server, run: int) -> None:
    at(page, server, run, "report")
    aim = page.locator("#part-aim")
    expect(aim).to_have_class("part draft")
    aim.get_by_role("button", name="Accept draft").click()
    saved(page)
    expect(page.locator("#part-aim")).to_have_class("part own")
    page.locator("#write-conclusion summary").click()
    page.get_by_role("textbox", name="Conclusion").fill("The stairwell has the g it should have.")
    page.get_by_role("textbox", name="Conclusion").blur()
    saved(page)
    expect(page.locator("#part-conclusion .part-text")).to_have_text("The stairwell has the g it should have.")
    page.get_by_role("button", name="Back to the draft").last.click()
    saved(page)
    expect(page.locator("#part-conclusion")).to_have_class("part draft")


@thorough
@pytest.mark.own_window
def test_what_is_half_written_survives_a_dead_server_and_a_reload(page: Page, server: Server, run: int) -> None:
    at(page, server, run, "report")
    page.locator("#write-discussion summary").click()
    box = page.get_by_role("textbox", name="Discussion")
    box.fill("Row 5 was read in a hurry")
    server.kill()
    box.blur()
    expect(page.locator("#kept")).to_have_attribute("data-state", "away", timeout=30000)
    server.start()
    saved(page)
    page.locator("#write-errors summary").click()
    page.get_by_role("textbox", name="Sources of error").fill("half a sentence about the th")
    page.reload()
    page.wait_for_selector("html[data-ready=yes]")
    saved(page)
    found = {p["name"]: p["text"] for p in page.request.get(f"{server.address}/runs/{run}/report.json").json()["parts"]}
    assert found["discussion"] == "Row 5 was read in a hurry"
    assert found["errors"] == "half a sentence about the th"


@pytest.mark.own_window
def test_signed_marked_and_given_back(page: Page, server: Server, run: int) -> None:
    at(page, server, run, "report")
    # What was typed last belongs to the version, though nobody waited for its save.
    page.locator("#write-discussion summary").click()
    page.get_by_role("textbox", name="Discussion").fill("The swings were counted aloud.")
    page.get_by_label("Submitted by").fill("Ines")
    page.get_by_role("button", name="Submit").click()
    expect(page.locator("#left-to-do")).to_contain_text("Drafts to review")
    page.get_by_role("button", name="Submit anyway").click()
    expect(page.locator(".signed-line")).to_contain_text("submitted by Ines")
    expect(page.locator("#report")).to_contain_text("The swings were counted aloud.")
    version = page.url
    page.goto(f"{version}/mark")
    page.wait_for_selector("html[data-ready=yes]")
    points = page.locator("[data-points$='points.graph']")
    points.fill("3,5")
    points.press("Tab")
    saved(page)
    expect(page.locator("#mark-total")).to_have_text("3.5 of 24")
    points.fill("many")
    points.press("Tab")
    expect(points).to_have_attribute("aria-invalid", "true")
    points.fill("9")
    points.press("Tab")
    expect(page.locator(".mark-points .fault", has_text="at most 4")).to_be_visible()
    expect(page.locator("#mark-total")).to_have_text("3.5 of 24")
    page.locator("#remark-graphs summary").click()
    page.get_by_role("textbox", name="Remark on Graphs").fill("half a remark on the axes")
    server.kill()
    page.reload()
    server.start()
    page.goto(f"{version}/mark")
    page.wait_for_selector("html[data-ready=yes]")
    saved(page)
    expect(page.get_by_role("textbox", name="Remark on Graphs")).to_have_value("half a remark on the axes")
    page.get_by_role("button", name="Return to bench").click()
    expect(page.locator("#given-line")).to_contain_text("Returned to the bench.")
    page.goto(version)
    expect(page.locator(".marks")).to_contain_text("half a remark on the axes")
    expect(page.locator(".marks")).to_contain_text("3.5 of 24")
