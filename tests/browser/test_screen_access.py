"""The simulated apparatus and the samples next to a row, for everyone: axe-core in each theme and scene, and narrow windows."""

import pytest
from playwright.sync_api import Page

from tests.browser.conftest import Server
from tests.browser.robot import begin
from tests.browser.test_access import COLOURS, EVERYTHING, serious
from tests.thorough import THOROUGH

SCENES = [
    ("metre-bridge", {"first.K.1.1": "4.5"}, "first.l.1.1"),
    ("newton-second-law", {"force.m_h.1.1": "20.0"}, "force.a.1.1"),
]


@pytest.mark.parametrize(("experiment", "settings", "slot"), SCENES if THOROUGH else SCENES[:1])
def test_no_serious_finding(page: Page, server: Server, experiment: str, settings: dict, slot: str) -> None:
    robot, run = begin(page, server, experiment)
    for place, text in settings.items():
        robot.write(place, text)
    robot.saved()
    robot.look(slot)
    for theme, rules in (("light", EVERYTHING), ("dark", COLOURS), ("dark-room", COLOURS))[: 3 if THOROUGH else 1]:
        page.evaluate("theme => { document.documentElement.dataset.theme = theme; }", theme)
        assert serious(page, rules) == [], theme
    for width in (390, 820):
        page.set_viewport_size({"width": width, "height": 844})
        assert page.evaluate("document.documentElement.scrollWidth") <= width
    if THOROUGH and experiment == "metre-bridge":
        page.goto(f"{server.address}/runs/{run}/instructor?truth=yes")
        page.wait_for_selector("html[data-ready=yes]")
        assert serious(page, EVERYTHING) == []
