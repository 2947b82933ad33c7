"""A sensor sends, a page listens: samples drawn as they come, none lost when server and page go away, kept next to their row."""

import re
import subprocess
import sys

from playwright.sync_api import Page, expect

from tests.browser.conftest import ROOT, Server
from tests.thorough import thorough


def sensor(server: Server, run: int, *more: str) -> "subprocess.Popen[str]":
    command = [sys.executable, "-m", "cavrel", "sensor", str(run), "--server", server.address, *more]
    return subprocess.Popen(command, cwd=ROOT, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)


def test_a_sensor_fills_a_row(page: Page, server: Server, new_run) -> None:
    run = new_run("With a sensor", "Wick", "newton-second-law")
    page.locator('input[data-slot="force.a.1.1"]').focus()
    sender = sensor(server, run, "--rate", "100", "--seconds", "3.5", "--size", "0.8", "--speed", "2")
    page.locator("#listen").click()
    expect(page.locator("#live-said")).to_contain_text("samples, to")
    assert page.locator("#live-trace").is_visible()
    said, _ = sender.communicate(timeout=60)
    assert said == "350 samples kept\n"
    expect(page.locator("#live-said")).to_contain_text("350 samples")
    page.locator("#listen").click()
    page.locator("#keep-live").click()
    page.locator("#take-proposed").click()
    value = page.locator("#stretch-value")
    expect(value).to_contain_text("0.80")
    trace = page.request.get(f"{server.address}/runs/{run}/traces/force.a.1.json").json()
    assert len(trace["trace"]["values"]) == 350
    assert trace["value"].startswith("0.80") or trace["value"].startswith("0.79")


@thorough
def test_no_sample_is_lost_when_the_server_dies_and_the_page_is_loaded_anew(
    page: Page, server: Server, new_run
) -> None:
    run = new_run("Server killed", "Wick", "newton-second-law")
    page.locator('input[data-slot="force.a.1.1"]').focus()
    page.locator("#listen").click()
    sender = sensor(server, run, "--rate", "100", "--seconds", "5", "--block", "10")
    expect(page.locator("#live-said")).to_contain_text("samples, to")
    server.kill()
    page.wait_for_timeout(700)
    server.start()
    page.reload()
    page.wait_for_selector("html[data-ready=yes]")
    page.locator('input[data-slot="force.a.1.1"]').focus()
    said, wrong = sender.communicate(timeout=60)
    assert said == "500 samples kept\n", wrong
    expect(page.locator("#live-said")).to_contain_text("500 samples")
    page.locator("#listen").click()
    page.locator("#keep-live").click()
    expect(page.locator("#kept")).to_have_attribute("data-state", "saved")
    trace = page.request.get(f"{server.address}/runs/{run}/traces/force.a.1.json").json()["trace"]
    assert len(trace["times"]) == 500
    assert trace["times"] == sorted(trace["times"])


def test_an_export_is_pasted_over_its_row_and_its_column_chosen(page: Page, server: Server, new_run) -> None:
    run = new_run("An export", "Wick", "newton-second-law")
    lines = ["Time (s);Position (m);Velocity (m/s)"]
    lines += [
        f"{i / 50:.2f};{0.2 * (i / 50) ** 2:.4f};{max(0.0, 0.4 * (i / 50 - 0.5)):.4f}".replace(".", ",")
        for i in range(120)
    ]
    page.locator('input[data-slot="force.a.2.1"]').focus()
    expect(page.locator("#trace-panel h2")).to_contain_text("row 2")
    page.evaluate(
        "text => { const data = new DataTransfer(); data.setData('text/plain', text);"
        " document.activeElement.dispatchEvent(new ClipboardEvent('paste', { clipboardData: data, bubbles: true, cancelable: true })); }",
        "\n".join(lines),
    )
    expect(page.locator("#looked-at .chosen-column")).to_contain_text("Velocity")
    page.reload()
    page.wait_for_selector("html[data-ready=yes]")
    page.locator('input[data-slot="force.a.2.1"]').focus()
    expect(page.locator("#looked-at .chosen-column")).to_contain_text("Velocity")
    page.locator("#keep-samples").click()
    page.locator("#take-proposed").click()
    expect(page.locator("#stretch-value")).to_contain_text("0.40")
    page.locator("#counts-other-way").check()
    expect(page.locator("#stretch-value")).to_contain_text("−0.40")
    trace = page.request.get(f"{server.address}/runs/{run}/traces/force.a.2.json").json()["trace"]
    assert trace["unit"] == "m/s"
    assert trace["values"][-1] > 0, "what the sensor gave stays as it was"
    page.locator("#counts-other-way").uncheck()
    expect(page.locator("#stretch-value")).to_contain_text(re.compile(r"= 0\.40"))
