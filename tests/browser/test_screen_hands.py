"""The simulated apparatus worked by a finger on a phone, by the keyboard alone, and through a server that dies."""

import re

from playwright.sync_api import Browser, Page, expect

from tests.browser.conftest import Server, read_first
from tests.browser.robot import agreed, begin, read_label
from tests.thorough import thorough

WEIGHTS = ("0", "2", "4", "6", "8")


def test_a_finger_on_a_phone_reads_and_writes_down(browser: Browser, server: Server) -> None:
    context = browser.new_context(viewport={"width": 390, "height": 844}, has_touch=True, is_mobile=True)
    page = context.new_page()
    page.goto(f"{server.address}/experiments/spring")
    page.get_by_label("Bench").select_option(label="Prism")
    page.get_by_role("button", name="Start measuring").tap()
    page.wait_for_selector("html[data-ready=yes]")
    read_first(page)
    page.get_by_role("button", name="Use simulated apparatus").tap()
    page.wait_for_selector("html[data-ready=yes]")
    for row, n in enumerate(WEIGHTS, 1):
        cell = page.locator(f'input[data-slot="loads.n.{row}.1"]')
        cell.tap()
        cell.fill(n)
        cell.blur()
    expect(page.locator("#kept")).to_have_attribute("data-state", "saved")
    page.locator('input[data-slot="quantities.m.1"]').tap()
    for slot, unit in (("quantities.m.1", "g"), *((f"loads.l.{row}.1", "cm") for row in range(1, 6))):
        page.wait_for_function("slot => document.getElementById('screen-bench').dataset.slot === slot", arg=slot)
        said = page.locator("#bench-face svg").get_attribute("aria-label")
        page.locator("#bench-reading").fill(read_label(str(said), unit))
        page.get_by_role("button", name="Record").tap()
        expect(page.locator(f'input[data-slot="{slot}"]')).not_to_have_value("")
    expect(page.locator("#kept")).to_have_attribute("data-state", "saved")
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    agreed(page, server, int(re.search(r"/runs/(\d+)/", page.url)[1]))
    context.close()


def test_a_block_is_put_into_the_water_and_the_readings_go_on(page: Page, server: Server) -> None:
    robot, _ = begin(page, server, "block-density")
    page.get_by_role("button", name="Put it into the water").click()
    expect(page.locator("#bench-sign svg")).to_have_attribute("aria-label", re.compile("floats|sinks"))
    expect(page.locator("#bench-said")).to_contain_text(re.compile("floats|sinks"))
    robot.look("quantities.theta.1")
    page.locator("#bench-afloat").click()
    page.locator("#bench-back").click()
    expect(page.locator("#screen-bench")).to_have_attribute("data-slot", "quantities.theta.1")


def test_the_keyboard_alone_finds_a_null_and_writes_it(page: Page, server: Server) -> None:
    robot, _ = begin(page, server, "metre-bridge")
    robot.write("first.K.1.1", "4.5")
    robot.saved()
    robot.look("first.l.1.1")
    page.locator("#bench-move").focus()
    for _ in range(60):
        words = str(page.locator("#bench-state").text_content())
        if "stays at zero" in words:
            break
        away = re.search(r"([\d.]+) divisions (left|right)", words)
        key = "PageUp" if away[2] == "left" else "PageDown"
        if float(away[1]) < 9.5:
            key = "ArrowRight" if away[2] == "left" else "ArrowLeft"
        for _ in range(1 if key.startswith("Page") else max(1, round(float(away[1]) * 8))):
            page.keyboard.press(key)
    assert "stays at zero" in str(page.locator("#bench-state").text_content())
    assert "nearest mark" in str(page.locator("#bench-move").get_attribute("aria-valuetext"))
    reading = robot.reads("first.l.1.1")
    page.locator("#bench-reading").focus()
    page.keyboard.type(reading)
    page.keyboard.press("Enter")
    expect(page.locator('input[data-slot="first.l.1.1"]')).to_have_value(reading)
    robot.saved()


def test_a_run_by_keyboard_alone(page: Page, server: Server) -> None:
    """The cursor goes where the next reading goes, and the apparatus with it: digits and Enter are all that is pressed."""
    robot, run = begin(page, server, "spring")
    page.locator('input[data-slot="loads.n.1.1"]').focus()
    for _ in range(20):
        slot = page.evaluate("document.activeElement.dataset?.slot ?? null")
        if slot is None:
            break
        _, column, row = slot.split(".")[:3]
        if column == "n":
            text = WEIGHTS[int(row) - 1] if int(row) <= len(WEIGHTS) else str(int(row) + 3)
        else:
            page.wait_for_function(
                "slot => { const d = document.getElementById('screen-bench').dataset; return d.slot === slot && d.scene === 'still'; }",
                arg=slot,
            )
            text = robot.reads(slot)
        page.keyboard.type(text)
        page.keyboard.press("Enter")
    robot.saved()
    agreed(page, server, run)


@thorough
def test_a_server_that_dies_in_the_middle_takes_nothing(page: Page, server: Server) -> None:
    robot, run = begin(page, server, "spring")
    for row, n in enumerate(WEIGHTS, 1):
        robot.write(f"loads.n.{row}.1", n)
    robot.saved()
    robot.take("quantities.m.1")
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
    agreed(page, server, run)


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
