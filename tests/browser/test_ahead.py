"""The next page is asked for before its link is pressed, and never shown when something was saved since."""

from collections.abc import Callable

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import Server
from tests.browser.test_measure import cell, saved


@pytest.mark.own_window
def test_a_page_meant_is_fetched_ahead_and_thrown_away_by_a_save(
    page: Page, server: Server, new_run: Callable[..., int]
) -> None:
    run = new_run("Ahead")
    page.evaluate("navigator.serviceWorker.ready.then(() => true)")
    page.reload()
    page.wait_for_selector("html[data-ready=yes]")
    asked: list[str] = []
    page.context.on("request", lambda request: asked.append(request.url) if request.service_worker else None)
    fit = page.locator('a.stage[data-stage="3"]')

    def hovered() -> None:
        before = len(asked)
        page.mouse.move(700, 400)
        fit.hover()
        for _ in range(100):
            if any(url.endswith(f"/runs/{run}/fit") for url in asked[before:]):
                return
            page.wait_for_timeout(25)
        raise AssertionError(f"not asked for: {asked}")

    hovered()
    many = len([url for url in asked if url.endswith("/fit")])
    fit.click()
    page.wait_for_url("**/fit")
    page.wait_for_selector("html[data-ready=yes]")
    assert len([url for url in asked if url.endswith("/fit")]) == many, "asked for twice"
    page.go_back()
    page.wait_for_selector("html[data-ready=yes]")
    hovered()
    page.mouse.move(700, 400)
    cell(page, "swings.t.1.1").fill("31.11")
    page.keyboard.press("Enter")
    saved(page)
    many = len([url for url in asked if url.endswith("/fit")])
    fit.evaluate("link => link.click()")  # no hand came near it
    page.wait_for_url("**/fit")
    page.wait_for_selector("html[data-ready=yes]")
    assert len([url for url in asked if url.endswith("/fit")]) == many + 1, "a page from before the save was shown"
    expect(page.locator("body")).to_have_attribute("data-run", str(run))
