"""The laboratory through its page: a change that leaves an old run alone, and a form that survives a crash of the server."""

import re
from collections.abc import Callable

from playwright.sync_api import Page, expect

from tests.browser.conftest import Server
from tests.browser.test_plan import plan, promised
from tests.thorough import thorough

OWN_SERVER = True  # it changes what every run of the course begins with


def laboratory(page: Page, server: Server) -> None:
    page.goto(f"{server.address}/laboratory")
    page.wait_for_selector("html[data-ready=yes]")


@thorough
def test_a_change_leaves_an_old_run_alone_until_it_is_taken_there(
    page: Page, server: Server, new_run: Callable[..., int]
) -> None:
    old = new_run("Begun before", experiment="spring")
    plan(page, server, old)
    before = promised(page)
    laboratory(page, server)
    page.get_by_text("+ instrument").click()
    form = page.locator("form[data-draft='instruments:']")
    form.get_by_label("Label").fill("floor rule")
    form.get_by_role("combobox", name="Kind").fill("metre rule")
    form.get_by_label("least count").fill("2 cm")
    form.get_by_label(re.compile("Use it wherever")).check()
    form.get_by_role("button", name="Save", exact=True).click()
    page.wait_for_selector("#instruments-floor_rule")
    page.wait_for_selector("html[data-ready=yes]")
    assert page.evaluate("Object.keys(localStorage).filter((k) => k.startsWith('cavrel.form')).length") == 0
    plan(page, server, old)
    assert promised(page) == before
    newer = new_run("Begun after", experiment="spring")
    plan(page, server, newer)
    assert promised(page) > 2 * before
    plan(page, server, old)
    expect(page.locator("#house-rules")).to_contain_text("floor rule added")
    page.get_by_role("button", name=re.compile("Update this run to version")).click()
    expect(page.locator("#fold-house")).to_contain_text("version 2 of the laboratory")
    assert promised(page) > 2 * before


@thorough
def test_a_form_half_filled_survives_a_crash_of_the_server(page: Page, server: Server) -> None:
    laboratory(page, server)
    page.get_by_text("+ value").click()
    form = page.locator("form[data-draft='accepted:']")
    form.get_by_label("What it is").fill("reel of wire")
    form.get_by_label("Value with its unit").fill("1.2 ohm/m")
    form.get_by_label("Results compared with it").select_option("young-modulus.E")
    server.kill()
    form.get_by_role("button", name="Save", exact=True).click()
    page.wait_for_timeout(500)
    server.start()
    laboratory(page, server)
    expect(form.get_by_label("What it is")).to_have_value("reel of wire")
    expect(form.get_by_label("Results compared with it")).to_have_values(["young-modulus.E"])
    expect(form).to_contain_text("Restored from your last visit, not saved yet")
    form.get_by_role("button", name="Save", exact=True).click()
    expect(page.locator("#accepted [role=alert]")).to_contain_text("cannot be computed")
    form.get_by_label("Value with its unit").fill("200 GPa")
    form.get_by_role("button", name="Save", exact=True).click()
    page.wait_for_selector("#accepted-reel_of_wire")


def test_a_rule_shows_what_it_makes_before_it_is_kept(page: Page, server: Server) -> None:
    laboratory(page, server)
    rounding = page.locator("#rule-rounding")
    rounding.locator("summary").click()
    rounding.locator("input[value='\"two\"']").check()
    expect(rounding.locator("summary")).to_contain_text("two")
    expect(page.locator("#rule-stated")).to_contain_text("50.00 ± 0.25")
    expect(page.locator("#rule-g")).to_contain_text("compared with 9.8147")
    page.locator("#rule-g summary").click()
    page.get_by_label("g in metres per second squared").fill("9.75")
    page.keyboard.press("Tab")
    expect(page.locator("#rule-g")).to_contain_text("compared with 9.7500")
    page.get_by_role("button", name="Save rules").click()
    page.wait_for_selector("html[data-ready=yes]")
    expect(rounding.locator("input[value='\"two\"']")).to_be_checked()
    expect(page.locator("#versions")).to_contain_text(
        "g that results are compared with: latitude 54.6°, height 12 m → 9.75"
    )
    page.get_by_role("button", name="Restore version 1").click()
    expect(page.locator("#rule-g")).to_contain_text("compared with 9.8147")
