"""The apparatus on the screen worked by a pointer, by a finger on a phone, by the keyboard alone, and through a server that dies."""

import re

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.browser.conftest import Server, read_first
from tests.browser.robot import begin, read_label


def drag(page: Page, to: float) -> None:
    """Take the contact with the pointer and move it to a share of its way."""
    box = page.locator("#bench-move").bounding_box()
    now = page.evaluate(
        "() => { const m = document.getElementById('bench-move'); return (m.value - m.min) / (m.max - m.min); }"
    )
    y = box["y"] + box["height"] / 2
    reach = box["width"] - 16
    page.mouse.move(box["x"] + 8 + now * reach, y)
    page.mouse.down()
    page.mouse.move(box["x"] + 8 + to * reach, y, steps=6)
    page.mouse.up()


SOUGHT = [
    ("metre-bridge", {"first.K.1.1": "4.5"}, "first.l.1.1", r"(left|right) of nought", "nought"),
    ("balanced-rule", {}, "quantities.c.1", r"(left|right) end hangs", "level"),
    ("led-threshold", {"lamps.lam.1.1": "625"}, "lamps.U.1.1", r"(dark|glows)", ""),
    ("photoelectric", {"lines.lam.1.1": "405"}, "lines.U.1.1", r"(the current|no current)", ""),
    ("resonance-tube", {"tones.f.1.1": "512"}, "tones.l.1.1", r"loudness (\d+)", ""),
    ("string-waves", {"loops.n.1.1": "2"}, "loops.f.1.1", r"swings (\d+)", ""),
]


@pytest.mark.parametrize(("experiment", "settings", "slot", "sign", "found"), SOUGHT)
def test_a_pointer_moves_the_contact_and_the_sign_answers(
    page: Page, server: Server, experiment: str, settings: dict, slot: str, sign: str, found: str
) -> None:
    robot, _ = begin(page, server, experiment)
    for place, text in settings.items():
        robot.write(place, text)
    robot.saved()
    assert robot.look(slot) == "seek"
    state = page.locator("#bench-state")
    expect(state).to_have_text(re.compile(sign))
    seen = set()
    for share in (0.1, 0.35, 0.6, 0.85):
        drag(page, share)
        seen.add(state.text_content())
    assert len(seen) > 1
    before = page.locator("#bench-face svg").get_attribute("aria-label")
    page.locator('[data-nudge="50"]').click()
    assert page.locator("#bench-face svg").get_attribute("aria-label") != before
    robot.take(slot)
    assert page.locator(f'input[data-slot="{slot}"]').input_value()
    if found:
        expect(state).to_contain_text(found)


def test_a_finger_on_a_phone_reads_and_writes_down(browser: Browser, server: Server) -> None:
    context = browser.new_context(viewport={"width": 390, "height": 844}, has_touch=True, is_mobile=True)
    page = context.new_page()
    page.goto(f"{server.address}/experiments/spring")
    page.get_by_label("Bench").select_option(label="Prism")
    page.get_by_role("button", name="Start measuring").tap()
    page.wait_for_selector("html[data-ready=yes]")
    read_first(page)
    page.get_by_role("button", name="Apparatus on the screen").tap()
    page.wait_for_selector("html[data-ready=yes]")
    for row, n in enumerate(("0", "2", "4"), 1):
        cell = page.locator(f'input[data-slot="loads.n.{row}.1"]')
        cell.tap()
        cell.fill(n)
        cell.blur()
    expect(page.locator("#kept")).to_have_attribute("data-state", "saved")
    page.locator('input[data-slot="loads.l.1.1"]').tap()
    for row in (1, 2, 3):
        page.wait_for_function(f"() => document.getElementById('screen-bench').dataset.slot === 'loads.l.{row}.1'")
        said = page.locator("#bench-face svg").get_attribute("aria-label")
        page.locator("#bench-reading").fill(read_label(str(said), "cm"))
        page.get_by_role("button", name="Write it down").tap()
        expect(page.locator(f'input[data-slot="loads.l.{row}.1"]')).not_to_have_value("")
        if row < 3:
            page.wait_for_function(
                f"() => document.getElementById('screen-bench').dataset.slot === 'loads.l.{row + 1}.1'"
            )
    expect(page.locator("#kept")).to_have_attribute("data-state", "saved")
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    lengths = [float(page.locator(f'input[data-slot="loads.l.{row}.1"]').input_value()) for row in (1, 2, 3)]
    assert lengths == sorted(lengths)
    context.close()


def test_the_keyboard_alone_finds_a_null_and_writes_it(page: Page, server: Server) -> None:
    robot, _ = begin(page, server, "metre-bridge")
    robot.write("first.K.1.1", "4.5")
    robot.saved()
    robot.look("first.l.1.1")
    page.locator("#bench-move").focus()
    for _ in range(60):
        words = str(page.locator("#bench-state").text_content())
        if "stays at nought" in words:
            break
        away = re.search(r"([\d.]+) divisions (left|right)", words)
        key = "PageUp" if away[2] == "left" else "PageDown"
        if float(away[1]) < 9.5:
            key = "ArrowRight" if away[2] == "left" else "ArrowLeft"
        for _ in range(1 if key.startswith("Page") else max(1, round(float(away[1]) * 8))):
            page.keyboard.press(key)
    assert "stays at nought" in str(page.locator("#bench-state").text_content())
    assert "nearest mark" in str(page.locator("#bench-move").get_attribute("aria-valuetext"))
    reading = robot.reads("first.l.1.1")
    page.locator("#bench-reading").focus()
    page.keyboard.type(reading)
    page.keyboard.press("Enter")
    expect(page.locator('input[data-slot="first.l.1.1"]')).to_have_value(reading)
    robot.saved()


def test_a_server_that_dies_in_the_middle_takes_nothing(page: Page, server: Server) -> None:
    robot, run = begin(page, server, "spring")
    for row in range(1, 6):
        robot.write(f"loads.n.{row}.1", str(row - 1))
    robot.saved()
    robot.take("loads.l.1.1")
    robot.take("loads.l.2.1")
    robot.look("loads.l.3.1")
    shown = robot.reads("loads.l.3.1")
    server.kill()
    robot.write("loads.l.3.1", shown)
    page.locator('input[data-slot="loads.l.4.1"]').focus()
    expect(page.locator("#bench-view")).to_contain_text("does not answer")
    expect(page.locator("#kept")).to_have_attribute("data-state", "away")
    server.start()
    robot.saved()
    page.wait_for_function("() => document.getElementById('screen-bench').dataset.scene === 'still'")
    robot.take("loads.l.4.1")
    robot.take("loads.l.5.1")
    robot.saved()
    cells = page.request.get(f"{server.address}/runs/{run}/measure.json").json()["run"]["series"]["loads"]["l"]
    assert cells[2] == shown
    assert all(cells[:5])
    page.reload()
    page.wait_for_selector("html[data-ready=yes]")
    page.locator('input[data-slot="loads.l.4.1"]').focus()
    robot.look("loads.l.3.1")
    assert robot.reads("loads.l.3.1") == shown


def test_a_finished_run_takes_its_digits_and_one_key_a_reading(page: Page, server: Server, new_run) -> None:
    run = new_run("Eight by five", "Fresnel", "pendulum")
    page.locator('input[data-slot="swings.t.1.1"]').focus()
    presses = 0
    for trial in range(1, 6):
        for row in range(1, 9):
            page.keyboard.type(f"{12 + row * 2 + trial / 100:.2f}")
            page.keyboard.press("Enter")
            presses += 1
        if trial < 5:
            assert page.evaluate("document.activeElement.dataset.slot") == f"swings.t.1.{trial + 1}"
    expect(page.locator("#kept")).to_have_attribute("data-state", "saved")
    cells = page.request.get(f"{server.address}/runs/{run}/measure.json").json()["run"]["series"]["swings"]["t"]
    assert presses == 40
    assert [len(cell) for cell in cells] == [5] * 8
    assert cells[7][4] == "28.05"
