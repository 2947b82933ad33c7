"""Conventions, calls, searching the experiments, writing one's own, at the real interface."""

import re
from collections.abc import Callable

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import Server
from tests.browser.test_measure import cell, saved
from tests.thorough import thorough


def test_a_convention_changes_the_table_and_the_logbook_says_so(page: Page, new_run: Callable[..., int]) -> None:
    new_run("Which gap", "Prism", "metre-bridge")
    expect(cell(page, "first.w.1.1")).to_have_count(0)
    page.get_by_label("Gap that holds the unknown").select_option(value="swapped")
    expect(cell(page, "first.w.1.1")).to_be_visible()
    saved(page)
    page.get_by_role("link", name=re.compile("Logbook")).click()
    expect(page.locator(".log")).to_contain_text("both gaps, swapped and averaged")


def test_the_preview_follows_the_conventions(page: Page, server: Server) -> None:
    page.goto(f"{server.address}/experiments/coil-inductance")
    expect(page.locator("#ruled")).to_contain_text("Coils")
    before = page.locator("#ruled").inner_html()
    page.get_by_label("Title").fill("Typed before the convention")
    page.goto(f"{server.address}/experiments/metre-bridge")
    page.get_by_label("Gap that holds the unknown").select_option(value="left")
    expect(page.locator("#ruled .law-big mfrac")).to_contain_text("100")
    assert before != page.locator("#ruled").inner_html()


@pytest.mark.own_window
def test_the_caller_beats_and_moves_the_cursor(page: Page, new_run: Callable[..., int]) -> None:
    page.clock.install()
    new_run("On the beat", "Wick", "stefan-constant")
    cell(page, "warming.t.1.1").fill("0")
    page.get_by_role("button", name="Start the calls").click()
    expect(page.locator("#call-said")).to_have_text("read now: number 1")
    expect(cell(page, "warming.x.1.1")).to_be_focused()
    page.keyboard.type("57")
    page.clock.fast_forward(9000)
    expect(page.locator("#call-said")).to_have_text("read now: number 2", timeout=14000)
    expect(cell(page, "warming.x.2.1")).to_be_focused()
    page.reload()
    page.wait_for_selector("html[data-ready=yes]")
    expect(page.get_by_role("button", name="Stop")).to_be_visible()
    page.get_by_role("button", name="Stop").click()
    expect(page.get_by_role("button", name="Start the calls")).to_be_visible()
    expect(cell(page, "warming.x.1.1")).to_have_value("57")


def test_searching_the_shelf_by_key(page: Page, server: Server) -> None:
    page.goto(server.address)
    page.wait_for_selector("html[data-ready=yes]")
    page.keyboard.press("/")
    page.keyboard.type("laser")
    expect(page.get_by_role("link", name=re.compile("Gravitational constant with a torsion balance"))).to_be_visible()
    expect(page.get_by_role("link", name=re.compile("Equilibrium of torques on a metre rule"))).to_be_hidden()
    page.keyboard.type(" levitation")
    expect(page.locator("#found-none")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_role("link", name=re.compile("Equilibrium of torques on a metre rule"))).to_be_visible()


@thorough
def test_writing_ones_own_from_fault_to_run(page: Page, server: Server) -> None:
    page.goto(f"{server.address}/write?like=spring")
    page.wait_for_selector("html[data-ready=yes]")
    text = page.locator("#text")
    whole = text.input_value().replace("own-spring", "harbour-spring")
    text.fill(whole.replace('formula = "n*m*g_local"', 'formula = "n*m*g_lokal"'))
    line = whole.split("\n").index('formula = "n*m*g_local"') + 1
    expect(page.locator("#faults h3")).to_contain_text(f"Line {line}")
    expect(page.locator("#faults-over span")).to_contain_text("unknown name 'g_lokal'")
    expect(page.locator(f"#gutter span:nth-child({line})")).to_have_class("at-fault")
    page.reload()  # nothing was saved, and nothing typed is lost
    page.wait_for_selector("html[data-ready=yes]")
    expect(text).to_have_value(re.compile("g_lokal"))
    page.get_by_role("button", name="Save as version 1").click()
    expect(page.locator("#faults h3")).to_contain_text(f"Line {line}")
    page.wait_for_selector("html[data-ready=yes]")
    text.fill(whole)
    expect(page.locator("#faults")).to_contain_text("Valid definition")
    expect(page.locator(".preview-page")).to_contain_text("Stiffness")
    page.get_by_role("button", name="Save as version 1").click()
    page.wait_for_url(re.compile("/write/harbour-spring"))
    page.goto(f"{server.address}/experiments/harbour-spring")
    page.get_by_label("Bench").select_option(label="Wick")
    page.get_by_role("button", name="Start measuring").click()
    expect(page.get_by_role("heading", name="Loads")).to_be_visible()
