"""Accessibility: axe-core on each page and theme, everything by keyboard, and the three widths."""

import re
from collections.abc import Callable

import pytest
from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import Page, expect

from tests.browser.conftest import Server
from tests.browser.test_measure import cell
from tests.thorough import THOROUGH

PAGES = [
    "/runs/1/measure",
    "/runs/1/result",
    "/patterns",  # every component, one of them in every state
]
PAGES += [
    "/runs/1/plan",
    "/runs/1/fit",
    "/runs/1/report",
    "/laboratory",
    "/",
    "/help/author",
    "/courses/new",
    "/courses",
    "/server",
    "/experiments/pendulum",
    "/lessons",
    "/lessons/1",
    "/runs/1/logbook",
    "/runs/8/result",
    "/runs/1/export",
    "/runs/1/import",
    "/runs/9/traces/force.a.1",
    "/runs",
    "/import",
    "/course",
    "/write",
    "/help/tour",
    "/nowhere",
] * THOROUGH


THEMED = {
    "/runs/1/measure",
    "/runs/1/fit",
    "/runs/1/result",
    "/runs/1/report",
    "/patterns",
}
"""Looked at in the other themes, too: themes change roles of colour, and these pages hold every component, one of them in every state."""
FAULTS = {"resultTypes": ["violations"]}
EVERYTHING = {"runOnly": ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"], **FAULTS}
COLOURS = {"runOnly": {"type": "rule", "values": ["color-contrast", "link-in-text-block"]}, **FAULTS}


def serious(page: Page, rules: dict[str, object]) -> list[str]:
    found = Axe().run(page, options=rules)
    return [
        f"{v['id']}: {v['help']} at {[n['target'] for n in v['nodes']][:3]}"
        for v in found.response["violations"]
        if v["impact"] in ("serious", "critical")
    ]


@pytest.mark.parametrize("path", PAGES)
def test_no_serious_finding(page: Page, server: Server, path: str) -> None:
    """Everything once; in the other themes, which change colours and nothing else, what colours can do wrong."""
    page.goto(f"{server.address}{path}")
    page.wait_for_selector("html[data-ready=yes]")
    # What is folded away is looked at as well.
    page.evaluate("for (const folded of document.querySelectorAll('details')) folded.open = true")
    page.wait_for_load_state("networkidle")
    themes = (("light", EVERYTHING), ("dark", COLOURS), ("dark-room", COLOURS))[: 3 if THOROUGH else 2]
    for theme, rules in themes if path in THEMED else themes[:1]:
        page.evaluate("theme => { document.documentElement.dataset.theme = theme; }", theme)
        assert serious(page, rules) == [], theme
    page.evaluate("document.documentElement.dataset.theme = 'light'")
    for width in (390, 768, 320) if THOROUGH else (390,):
        page.set_viewport_size({"width": width, "height": 844})
        page.wait_for_timeout(150)
        assert serious(page, EVERYTHING) == [], width


def test_the_dark_room_shows_only_black_and_red(page: Page, server: Server) -> None:
    """No pixel that would cost a dark-adapted eye: green and blue stay far under red everywhere."""
    page.goto(f"{server.address}/runs/1/measure?theme=dark-room")
    page.wait_for_selector("html[data-ready=yes]")
    brightest = page.evaluate(
        """() => [...document.querySelectorAll("body *")].flatMap(e => {
            const s = getComputedStyle(e);
            return [s.color, s.backgroundColor, s.borderTopColor, s.fill, s.stroke].filter(Boolean).map(c => (c.match(/[\\d.]+/g) ?? []).map(Number))
        }).filter(c => c.length >= 3 && (c[3] ?? 1) > 0 && Math.max(c[1], c[2]) > 0.6 * Math.max(c[0], 1))"""
    )
    assert brightest == []


def test_a_point_pressed_asks_for_a_reason(page: Page, server: Server) -> None:
    page.goto(f"{server.address}/runs/2/fit")
    page.wait_for_selector("html[data-ready=yes]")
    page.locator('.two-graphs figure:last-child .pt[data-at="swings.4"]').click()
    expect(page.locator("#ask-title")).to_have_text("Why leave out row 4?")
    page.keyboard.press("Escape")
    expect(page.locator("#ask")).to_be_hidden()


def test_the_theme_is_kept(page: Page, server: Server) -> None:
    page.goto(f"{server.address}/runs/1/measure")
    page.wait_for_selector("html[data-ready=yes]")
    page.get_by_role("button", name="Dark room").click()
    page.goto(f"{server.address}/runs/1/result")
    expect(page.locator("html")).to_have_attribute("data-theme", "dark-room")


def test_all_keys_are_shown(page: Page, server: Server) -> None:
    page.goto(f"{server.address}/runs/1/measure")
    page.wait_for_selector("html[data-ready=yes]")
    page.keyboard.press("?")
    expect(page.get_by_role("heading", name="Keyboard shortcuts")).to_be_visible()


def test_focus_stays_near_when_what_had_it_is_gone(page: Page, server: Server, new_run: Callable[..., int]) -> None:
    run = new_run("Focus")
    for row, text in enumerate(("31.07", "37.91", "4.397"), 1):
        cell(page, f"swings.t.{row}.1").fill(text)
        page.keyboard.press("Enter")
    note = page.locator(".note", has_text="4.397").first
    note.get_by_role("button", name="Keep").focus()
    page.keyboard.press("Enter")
    expect(page.locator(".note", has_text=re.compile(r": kept"))).to_be_visible()
    assert page.evaluate("document.activeElement.closest('#notes') !== null")
    expect(page.locator("#said")).to_contain_text("kept")
    page.goto(f"{server.address}/runs/{run}/report")
    page.wait_for_selector("html[data-ready=yes]")
    page.locator("#part-aim [data-take-draft]").focus()
    page.keyboard.press("Enter")
    expect(page.locator("#part-aim [data-take-draft]")).to_have_count(0)
    assert page.evaluate("document.activeElement.closest('#part-aim, #report-live') !== null")


def test_what_is_saved_is_said_with_its_value(page: Page, new_run: Callable[..., int]) -> None:
    new_run("Spoken")
    cell(page, "swings.t.2.1").fill("37.91")
    page.keyboard.press("Enter")
    expect(page.locator("#said")).to_contain_text(re.compile(r"^saved: .*37\.91"))
