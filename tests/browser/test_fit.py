"""From a curved plot to a corrected result at the page: axes picked, a stretch chosen, a point left out, a suspect accepted; once by pointer, once
by keyboard alone."""

import math
from collections.abc import Callable

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import Server
from tests.browser.test_by_hand import Keys
from tests.browser.test_measure import saved
from tests.thorough import thorough

LENGTHS = ("40.0", "60.0", "80.0", "100.0", "120.0", "140.0", "160.0", "180.0")


RIGHT = f"{20 * 2 * math.pi * math.sqrt(1.2 / 9.8147) + 0.02:.2f}"
"""What was shown where two digits of the fifth row’s second timing are swapped."""


def readings() -> dict[str, str]:
    """A pendulum by g = 9.8147; two digits of the fifth row’s second timing are swapped."""
    texts = {}
    for row, length in enumerate(LENGTHS, 1):
        texts[f"swings.L.{row}.1"] = length
        true = 20 * 2 * math.pi * math.sqrt(float(length) / 100 / 9.8147)
        for trial, error in enumerate((-0.03, 0.02, 0.01), 1):
            texts[f"swings.t.{row}.{trial}"] = f"{true + error * (1 if row % 2 else -1):.2f}"
    right = texts["swings.t.5.2"]
    texts["swings.t.5.2"] = right[1] + right[0] + right[2:]
    return texts


def typed(page: Page, texts: dict[str, str]) -> None:
    """The readings as entries of the page’s own queue: typing is tested elsewhere."""
    page.evaluate(
        "async texts => { const { keep } = await import(document.querySelector('script[src*=page]').src.replace(/page(.*)$/, 'keep$1'));"
        "for (const [slot, text] of Object.entries(texts)) keep('reading', slot, { text }); }",
        texts,
    )
    saved(page)


@pytest.fixture
def run(page: Page, new_run: Callable[..., int]) -> int:
    made = new_run()
    typed(page, readings())
    return made


def g(page: Page, server: Server, run: int) -> float:
    return page.request.get(f"{server.address}/runs/{run}/result.json").json()["results"]["g"]["value"]


def at(page: Page, server: Server, run: int, stage: str) -> None:
    page.goto(f"{server.address}/runs/{run}/{stage}")
    page.wait_for_selector("html[data-ready=yes]")


@thorough
def test_from_a_curve_to_a_corrected_result(page: Page, server: Server, run: int) -> None:
    before = g(page, server, run)
    at(page, server, run, "fit?series=swings&x=L&y=T")
    current = page.locator(".stamp-card[aria-current]")
    expect(current).to_contain_text("bends")
    page.locator(".stamp-card", has_text="T² against L").click()
    page.wait_for_selector("html[data-ready=yes]")
    expect(page.locator(".stamp-card[aria-current]")).to_contain_text("the law’s")

    # A stretch dragged across the graph: the points outside are left out with a reason.
    graph = page.locator(".two-graphs figure").last.locator("svg.graph")
    box = graph.bounding_box()
    last = page.locator('.two-graphs figure:last-child .pt[data-at="swings.8"] .hit').bounding_box()
    first = page.locator('.two-graphs figure:last-child .pt[data-at="swings.1"] .hit').bounding_box()
    assert box
    assert last
    assert first
    page.mouse.move(first["x"] - 6, box["y"] + 60)
    page.mouse.down()
    page.mouse.move(last["x"] - 4, box["y"] + 60, steps=6)
    page.mouse.up()
    page.locator("#ask-text").fill("beyond the stairwell's landing")
    page.locator("#ask-save").click()
    saved(page)
    expect(page.locator('.two-graphs figure:last-child .pt[data-at="swings.8"]')).to_have_attribute("data-state", "out")

    # A point clicked out, and taken back.
    page.locator('.two-graphs figure:last-child .pt[data-at="swings.2"]').click()
    page.locator("#ask-text").fill("a draught")
    page.locator("#ask-save").click()
    saved(page)
    page.locator('.two-graphs figure:last-child .pt[data-at="swings.2"]').click()
    saved(page)
    expect(page.locator('.two-graphs figure:last-child .pt[data-at="swings.2"]')).to_have_attribute(
        "data-state", "read"
    )

    at(page, server, run, "result")
    card = page.locator(".suspect-card").first
    expect(card).to_have_attribute("data-at", "swings.t.5.2")
    card.get_by_role("button", name="Correct").click()
    expect(card.locator("input")).to_be_focused()  # nothing is written that nobody typed
    card.locator("input").fill(RIGHT)
    card.get_by_role("button", name="Correct").click()
    saved(page)
    expect(page.locator(".suspects")).to_have_count(0)
    assert g(page, server, run) != pytest.approx(before, rel=1e-4)
    at(page, server, run, "logbook")
    expect(page.locator("main")).to_contain_text("misread")
    expect(page.locator("main")).to_contain_text("beyond the stairwell's landing")


def test_the_same_by_keyboard_alone(page: Page, server: Server, run: int) -> None:
    before = g(page, server, run)
    at(page, server, run, "fit?series=swings&x=L&y=T")
    keys = Keys(page)
    keys.until('.stamp-card[href="?fit=line"]', most=120)
    keys.press("Enter")
    page.wait_for_url("**fit=line")
    page.wait_for_selector("html[data-ready=yes]")
    keys.until('.pt[data-at="swings.8"]', most=120)
    keys.press("x")
    page.wait_for_selector("#ask-text:focus")
    keys.type("beyond the landing")
    keys.press("Enter")
    saved(page)
    at(page, server, run, "result")
    keys.until(".suspect-card .misread input", most=120)
    keys.type(RIGHT)
    keys.press("Tab")
    keys.press("Enter")
    saved(page)
    expect(page.locator(".suspects")).to_have_count(0)
    assert g(page, server, run) != pytest.approx(before, rel=1e-4)


def test_read_it_again_goes_to_a_new_trial(page: Page, server: Server, run: int) -> None:
    at(page, server, run, "result")
    page.locator(".suspect-card").first.get_by_role("button", name="Read again").click()
    page.wait_for_url("**/measure#*")
    page.wait_for_selector("html[data-ready=yes]")
    focused = page.evaluate("document.activeElement.dataset.slot ?? ''")
    assert focused.startswith("swings.t.5.")
    assert focused != "swings.t.5.2"
    assert page.evaluate("document.activeElement.value") == ""


def test_a_suspicion_refused_does_not_come_back(page: Page, server: Server, run: int) -> None:
    at(page, server, run, "result")
    said = page.locator(".suspect-card").first.locator("p").first.inner_text()
    page.locator(".suspect-card").first.get_by_role("button", name="Dismiss").click()
    saved(page)
    expect(page.locator(".suspect-card p", has_text=said)).to_have_count(0)
    page.reload()
    page.wait_for_selector("html[data-ready=yes]")
    expect(page.locator(".suspect-card p", has_text=said)).to_have_count(0)


def test_a_graph_is_saved_as_a_picture(page: Page, server: Server, run: int) -> None:
    at(page, server, run, "fit")
    with page.expect_download() as vector:
        page.locator("[data-picture=svg]").click()
    text = vector.value.path().read_text()
    assert text.startswith("<svg")
    assert "var(--" not in text
    assert text.count("<circle") >= 8
    with page.expect_download() as image:
        page.locator("[data-picture=png]").click()
    assert image.value.path().read_bytes().startswith(b"\x89PNG")
    assert image.value.suggested_filename.endswith(".png")


def test_a_tangent_is_dragged_along_the_points_and_moved_by_keys(page: Page, server: Server, run: int) -> None:
    at(page, server, run, "fit?series=swings&x=L&y=T&touch=100")
    handle = page.locator(".touch[role=slider]")
    box = handle.locator(".handle").bounding_box()
    assert box
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 80, y, steps=4)
    page.mouse.up()
    page.wait_for_url(lambda url: "touch=100&" not in url and not url.endswith("touch=100"))
    moved = float(page.locator("#touch [name=touch]").input_value())
    assert 110 < moved < 160 and page.locator(".pt.out").count() == 0
    page.locator(".touch[role=slider]").focus()
    page.keyboard.press("Shift+ArrowLeft")
    page.wait_for_function("before => Number(document.querySelector('#touch [name=touch]').value) < before", arg=moved)
