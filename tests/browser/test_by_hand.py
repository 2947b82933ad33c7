"""Whole experiments at the page, from the list of experiments to a result: by keyboard alone, and by touch on a telephone."""

import re

import pytest
from playwright.sync_api import Browser, Page, expect

from cavrel import catalogue
from cavrel.core.logbook import slots_of
from cavrel.core.logbook.run import load
from cavrel.core.simulate import simulate
from tests.browser.conftest import Server
from tests.browser.test_measure import saved
from tests.thorough import THOROUGH, thorough

"""Whether the longer ones run too."""
MOST_A_READING = 1.1
"""Keys besides a reading's own characters."""


def readings(experiment: str) -> dict[str, str]:
    """What the simulation reads, by slot."""
    program = catalogue.program_of(catalogue.experiments()[experiment])
    return dict(slots_of(load(simulate(program, 3))))


class Keys:
    """Presses keys and counts them."""

    def __init__(self, page: Page) -> None:
        self.page, self.count = page, 0

    def press(self, key: str) -> None:
        self.page.keyboard.press(key)
        self.count += 1

    def type(self, text: str) -> None:
        self.page.keyboard.type(text)

    def until(self, selector: str, key: str = "Tab", most: int = 60) -> None:
        """Go on with a key until an element is in focus."""
        for _ in range(most):
            if self.page.evaluate("selector => document.activeElement?.matches(selector) ?? false", selector):
                return
            self.press(key)
        pytest.fail(f"{key} never came to {selector}")


def active(page: Page) -> str | None:
    return page.evaluate("document.activeElement?.dataset?.slot ?? null")


def in_sight(page: Page) -> bool:
    """Whether the cell in use is seen: nothing lies over its middle."""
    return page.evaluate(
        """() => { const e = document.activeElement, r = e.getBoundingClientRect();
        const top = document.elementFromPoint(r.left + r.width / 2, r.top + r.height / 2);
        return top !== null && (top === e || e.closest('.cell').contains(top)); }"""
    )


@thorough
@pytest.mark.parametrize("experiment", ["spring", *(["block-density", "half-life"] if THOROUGH else [])])
def test_by_keyboard_alone(page: Page, server: Server, experiment: str) -> None:
    texts = readings(experiment)
    page.goto(server.address)
    page.wait_for_selector("html[data-ready=yes]")
    keys = Keys(page)
    keys.press("/")
    keys.type(catalogue.experiments()[experiment].title)
    keys.until(f'a[href$="/experiments/{experiment}"]')
    keys.press("Enter")
    page.wait_for_url(re.compile(f"/experiments/{experiment}"))
    page.wait_for_selector("html[data-ready=yes]")
    keys.until("#bench")
    keys.type("Foghorn")
    keys.until("#start button[type=submit]")
    keys.press("Enter")
    page.wait_for_url(re.compile("/runs/|/experiments/"))
    page.wait_for_selector("html[data-ready=yes]")
    if page.locator("button[name=another]").count():
        keys.until("button[name=another]")
        keys.press("Enter")
    page.wait_for_selector("#tables")
    page.wait_for_selector("html[data-ready=yes]")
    if page.locator("#gate-read").count():
        keys.until("#gate-read")
        keys.press("Enter")
    if page.locator("[data-fill]").count():
        keys.until("[data-fill]", most=400)
        keys.press("Enter")
        saved(page)
        for slot in page.evaluate(
            "[...document.querySelectorAll('#tables input')].filter(i => i.value).map(i => i.dataset.slot)"
        ):
            texts.pop(slot, None)
    waiting = [slot for slot in texts if page.locator(f'input[data-slot="{slot}"]').count()]
    begun, typed = keys.count, 0
    keys.press("0")  # outside a cell a digit goes to the first that is empty
    page.keyboard.press("Backspace")
    while (slot := active(page)) in waiting:
        assert in_sight(page), slot
        keys.type(texts[slot])
        keys.press("Enter")
        waiting.remove(slot)
        typed += 1
    assert waiting == []
    assert typed > 8
    assert keys.count - begun <= MOST_A_READING * typed + 1
    saved(page)
    keys.press("Alt+4")
    page.wait_for_url(re.compile("/result"))
    number = page.request.get(page.url + ".json").json()
    assert any(r["value"] is not None for r in number["results"].values()), number["results"]
    expect(page.locator(".value-big, .card-result").first).to_be_visible()


@pytest.mark.parametrize("experiment", ["spring", *(["grating"] if THOROUGH else [])])
def test_by_touch_on_a_telephone(browser: Browser, server: Server, experiment: str) -> None:
    texts = readings(experiment)
    context = browser.new_context(viewport={"width": 390, "height": 844}, has_touch=True, is_mobile=True)
    page = context.new_page()
    page.set_default_timeout(25000)
    page.goto(f"{server.address}/experiments/{experiment}")
    page.get_by_label("Bench").select_option(label="Beacon")
    page.get_by_role("button", name="Start measuring").tap()
    page.wait_for_selector("#tables, button[name=another]")
    if page.locator("button[name=another]").count():
        page.locator("button[name=another]").tap()
        page.wait_for_selector("#tables")
    page.wait_for_selector("html[data-ready=yes]")
    if page.locator("#gate-read").count():
        page.locator("#gate-read").tap()
    taps = 0
    for slot, text in texts.items():
        cell = page.locator(f'input[data-slot="{slot}"]')
        if not cell.count():
            continue
        if active(page) != slot:  # the keyboard's own key for the next field goes down the column
            cell.tap()
            taps += 1
        assert in_sight(page), slot
        page.keyboard.type(text)
        page.keyboard.press("Enter")
    saved(page)
    assert page.evaluate("document.documentElement.scrollWidth <= innerWidth")
    page.locator('.stage[data-stage="4"]').tap()
    page.wait_for_url(re.compile("/result"))
    number = page.request.get(page.url + ".json").json()
    assert any(r["value"] is not None for r in number["results"].values())
    context.close()
