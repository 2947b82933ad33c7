"""The keys alone: what each stands for, and that digits, texts and the browser's own keys are left alone."""

import pytest
from playwright.sync_api import Page

from tests.browser.scripts.conftest import Bare

BODY = """<a class="stage" data-stage="3" href="#third">3</a><p id="out" tabindex="-1">outside</p><textarea id="text"></textarea>
<input id="find"><input type="checkbox" id="letter-keys">
<div id="tables"><table data-series="swings"><tbody>
<tr data-at="swings.1"><td class="cell"><input data-slot="swings.t.1.1" data-saved="31.1" value="31.1"></td></tr>
<tr data-at="swings.2"><td class="cell"><input data-slot="swings.t.2.1" data-saved="" value=""></td></tr>
<tr data-at="swings.3"><td class="cell"><input data-slot="swings.t.3.1" data-saved="" value=""></td></tr></tbody></table></div>"""


@pytest.fixture
def page(bare: Bare) -> Page:
    made = bare.open(BODY, "keys", "keep", "pending")
    made.evaluate("keys.start()")
    made.evaluate("keep.keep('reading', 'swings.t.1.1', { text: '31.1' })")
    made.focus("#out")
    return made


def undone(page: Page) -> int:
    page.wait_for_timeout(50)
    return page.evaluate("JSON.parse(sessionStorage.getItem('cavrel.touched.S.7') ?? '[]').length ? 0 : 1")


def value(page: Page, row: int) -> str:
    return page.locator(f'[data-slot="swings.t.{row}.1"]').input_value()


def test_u_takes_back_where_no_text_is_written(page: Page) -> None:
    page.focus("#text")
    page.keyboard.press("u")
    assert page.locator("#text").input_value() == "u"
    assert not undone(page)
    page.focus('[data-slot="swings.t.2.1"]')
    page.keyboard.press("u")
    assert value(page, 2) == "u"
    assert not undone(page)
    page.focus("#out")
    page.keyboard.press("u")
    assert undone(page)


@pytest.mark.parametrize("held", ["Control", "Alt", "Meta"])
def test_a_letter_with_a_key_held_is_the_browsers(page: Page, held: str) -> None:
    page.keyboard.press(f"{held}+u")
    assert not undone(page)


def test_letters_can_be_switched_off_and_stay_so(page: Page) -> None:
    page.uncheck("#letter-keys")
    page.focus("#out")
    page.keyboard.press("u")
    assert not undone(page)
    assert page.evaluate("localStorage.getItem('cavrel.letters')") == "off"
    page.keyboard.press("/")  # no letter
    assert page.evaluate("document.activeElement.id") == "find"
    assert page.locator("#find").input_value() == "", "the key typed itself"


@pytest.mark.parametrize("key", ["7", ".", ",", "-", "+"])
def test_a_digit_outside_a_text_is_a_reading(page: Page, key: str) -> None:
    page.keyboard.press(key)
    assert value(page, 2) == key
    assert value(page, 1) == "31.1"
    assert value(page, 3) == ""


def test_a_digit_goes_to_the_cell_last_used_while_it_is_empty(page: Page) -> None:
    page.focus('[data-slot="swings.t.3.1"]')
    page.focus("#out")
    page.keyboard.type("4")
    assert (value(page, 2), value(page, 3)) == ("", "4")
    page.focus("#out")
    page.keyboard.type("5")
    assert (value(page, 2), value(page, 3)) == ("5", "4")


def test_a_digit_with_every_cell_filled_goes_nowhere(page: Page) -> None:
    for row in (2, 3):
        page.fill(f'[data-slot="swings.t.{row}.1"]', "9")
    page.focus("#out")
    page.keyboard.type("4")
    assert [value(page, row) for row in (1, 2, 3)] == ["31.1", "9", "9"]


def test_alt_and_a_digit_is_a_stage_and_only_where_there_is_one(page: Page) -> None:
    page.keyboard.press("Alt+Digit4")
    assert page.evaluate("location.hash") == ""
    page.focus("#text")
    page.keyboard.press("Alt+Digit3")
    assert page.evaluate("location.hash") == "#third"
    assert [value(page, row) for row in (1, 2, 3)] == ["31.1", "", ""]
    assert page.locator("#text").input_value() == ""


def test_escape_leaves_a_cell(page: Page) -> None:
    page.focus('[data-slot="swings.t.2.1"]')
    page.keyboard.press("Escape")
    assert page.evaluate("document.activeElement === document.body")
