"""A browser that keeps nothing, a network that is slow, fingers that are quick."""

from collections.abc import Callable

from playwright.sync_api import Page, Route, expect

from tests.browser.conftest import Server
from tests.browser.test_measure import cell, saved

FULL = """(() => {
    const full = () => { throw new DOMException("full", "QuotaExceededError"); };
    Storage.prototype.setItem = full;
})()"""


def test_a_full_store_says_what_is_true_and_asks_before_it_goes(
    page: Page, server: Server, new_run: Callable[..., int]
) -> None:
    new_run("Full store", suggested=False)
    page.route("**/entries", lambda route: route.abort())
    page.evaluate(FULL)
    for row, text in ((1, "31.11"), (2, "38.2")):
        cell(page, f"swings.t.{row}.1").fill(text)
        page.keyboard.press("Enter")
    expect(page.locator("#kept")).to_contain_text(
        "2 only in this page, because this browser’s storage is full: keep the page open"
    )
    asked: list[str] = []

    def stay(dialog) -> None:
        asked.append(dialog.type)
        dialog.dismiss()

    page.on("dialog", stay)
    page.close(run_before_unload=True)
    page.wait_for_timeout(500)
    assert asked == ["beforeunload"]
    page.unroute("**/entries")
    saved(page)
    expect(page.locator("#rail")).to_contain_text("2 of 40 readings")
    # All is saved: nothing is asked any more.
    assert page.evaluate("window.dispatchEvent(new Event('beforeunload', { cancelable: true }))")


def test_what_is_half_typed_and_cannot_be_kept_is_asked_about(page: Page, new_run: Callable[..., int]) -> None:
    new_run("Half typed, full store", suggested=False)
    ask = "window.dispatchEvent(new Event('beforeunload', { cancelable: true }))"
    cell(page, "swings.t.1.1").press_sequentially("31.")
    assert page.evaluate(ask)
    page.evaluate(FULL)
    cell(page, "swings.t.1.1").press_sequentially("1")
    assert not page.evaluate(ask)


def test_two_quick_presses_take_two(page: Page, server: Server, new_run: Callable[..., int]) -> None:
    run = new_run("Quick fingers", suggested=False)
    page.goto(f"{server.address}/runs/{run}/plan")
    page.wait_for_selector("html[data-ready=yes]")
    held: list[Route] = []
    open_now: list[bool] = []
    page.route("**/entries", lambda route: route.continue_() if open_now else held.append(route))
    page.evaluate(
        "document.getElementById('rows-swings-less').click(); document.getElementById('rows-swings-less').click()"
    )
    page.evaluate(
        "document.getElementById('trials-swings-t-more').click(); document.getElementById('trials-swings-t-more').click()"
    )
    page.evaluate("document.getElementById('trials-swings-t-less').click()")
    page.wait_for_timeout(200)
    open_now.append(True)
    for route in held:
        route.continue_()
    saved(page)
    expect(page.locator("#rows-swings-less + b")).to_have_text("6")
    expect(page.locator("#trials-swings-t-less + b")).to_have_text("6")


def test_what_is_chosen_while_a_convention_is_on_its_way_stays(page: Page, server: Server) -> None:
    page.goto(f"{server.address}/experiments/spring")
    page.wait_for_selector("html[data-ready=yes]")
    held: list[Route] = []
    page.route("**/experiments/spring?*", lambda route: held.append(route))
    page.locator("#start select[name^=option-]").first.select_option(index=1)
    page.wait_for_timeout(200)
    assert len(held) == 1
    page.locator("#bench").select_option("3")
    page.locator("#title").fill("Our own title")
    page.get_by_label("simulated apparatus").check()
    held[0].continue_()
    expect(page.locator("html.htmx-request")).to_have_count(0)
    page.wait_for_timeout(600)
    expect(page.locator("#bench")).to_have_value("3")
    expect(page.locator("#title")).to_have_value("Our own title")
    expect(page.get_by_label("simulated apparatus")).to_be_checked()


def test_a_refused_start_is_in_sight_on_a_phone(page: Page, server: Server) -> None:
    page.set_viewport_size({"width": 390, "height": 844})
    page.goto(f"{server.address}/experiments/pendulum")
    page.wait_for_selector("html[data-ready=yes]")
    page.evaluate("document.getElementById('bench').removeAttribute('required')")
    page.get_by_role("button", name="Start measuring").click()
    page.wait_for_selector("html[data-ready=yes]")
    expect(page.get_by_text("Choose a bench.")).to_be_in_viewport()
    page.set_viewport_size({"width": 1280, "height": 800})


def test_a_page_whose_scripts_are_slow_waits_and_one_whose_scripts_failed_asks_again(
    page: Page, server: Server, new_run: Callable[..., int]
) -> None:
    run = new_run("Slow network", suggested=False)
    loads: list[str] = []
    page.on("request", lambda request: loads.append(request.url) if request.is_navigation_request() else None)
    held: list[Route] = []
    page.clock.install()
    page.route("**/js/page.js", lambda route: held.append(route))
    page.goto(f"{server.address}/runs/{run}/measure", wait_until="commit")
    page.wait_for_selector("#tables")
    for _ in range(8):
        page.clock.fast_forward(9000)
        page.wait_for_timeout(50)
    assert len(loads) == 1, "it loads itself again while its scripts are on their way"
    # While somebody types, a page whose scripts failed does not go by itself.
    held.pop(0).abort()
    for key in "31.1":
        page.clock.fast_forward(5000)
        page.locator('input[data-slot="swings.t.1.1"]').press_sequentially(key)
        page.wait_for_timeout(100)
    assert len(loads) == 1
    # Then it asks again; and what was typed is there.
    page.unroute("**/js/page.js")
    for _ in range(3):
        page.clock.fast_forward(8000)
        page.wait_for_timeout(100)
    page.wait_for_selector("html[data-ready=yes]")
    assert len(loads) == 2
    expect(cell(page, "swings.t.1.1")).to_have_value("31.1")
