"""A lesson through its page: made, moved by arrow keys and by dragging, begun; a wait that calls on every page."""

import re
from collections.abc import Callable

from playwright.sync_api import Page, expect

from tests.browser.conftest import Server

OWN_SERVER = True  # a lesson that begins is called in every page


def test_a_lesson_is_made_moved_and_begun(page: Page, server: Server) -> None:
    page.goto(f"{server.address}/lessons")
    page.wait_for_selector("html[data-ready=yes]")
    page.get_by_label("Title").fill("Third evening")
    page.get_by_label("Begins").fill("2026-11-26T18:30")
    page.get_by_label("Minutes").fill("150")
    page.get_by_role("button", name="Create lesson").click()
    page.wait_for_selector("form.lay-out")
    for name in ("Prism", "Wick", "Fresnel", "Foghorn"):
        page.get_by_label(name, exact=True).uncheck()
    for name in ("spring", "block-density", "speed-of-sound"):
        page.locator(f'input[name="experiment"][value="{name}"]').check()
    page.get_by_label("Experiments per bench").fill("3")
    page.get_by_role("button", name="Propose a timetable").click()
    expect(page.locator(".turn")).to_have_count(6)
    expect(page.locator("#timetable")).to_contain_text("No clashes")
    page.wait_for_selector("html[data-ready=yes]")
    last = page.locator('.turn[data-row="1"]').last
    assert int(last.get_attribute("data-start") or "0") > 30
    key, start = last.get_attribute("data-key"), int(last.get_attribute("data-start") or "0")
    turn = page.locator(f'.turn[data-key="{key}"]')
    turn.focus()
    for i in range(1, 4):
        page.keyboard.press("ArrowLeft")
        expect(turn).to_have_attribute("data-start", str(start - 5 * i))
        expect(turn).to_be_focused()
    expect(page.locator("#timetable")).to_contain_text("Lantern would do")
    box = turn.bounding_box()
    assert box
    page.mouse.move(box["x"] + 10, box["y"] + 10)
    page.mouse.down()
    page.mouse.move(box["x"] + 300, box["y"] + 12, steps=5)
    page.mouse.up()
    expect(page.locator("#timetable")).not_to_contain_text("would do")
    page.get_by_role("button", name="Start the lesson").click()
    expect(page.locator("#start-anyway")).to_contain_text("minutes after the lesson")
    page.get_by_role("button", name="Start the lesson all the same").click()
    expect(page.locator(".turn.begun")).to_have_count(6)
    page.get_by_text("As a table").click()
    page.locator(".as-table a").first.click()
    expect(page.locator("h1")).to_be_visible()
    assert re.search(r"/runs/\d+/plan", page.url)


def test_a_wait_calls_on_another_page_until_it_is_seen(page: Page, server: Server, new_run: Callable[..., int]) -> None:
    run = new_run("Steady chamber", experiment="stefan-constant")
    # The wait of five minutes, begun four minutes and fifty-odd seconds ago: entered as the deck enters it.
    page.evaluate(
        """async (run) => {
            const token = document.querySelector('meta[name="csrf-token"]').content;
            const entry = { key: crypto.randomUUID(), kind: "timer", slot: "timer:" + crypto.randomUUID(), made_at: new Date().toISOString(),
                body: { call: "wait", until: new Date(Date.now() + 4000).toISOString() } };
            await fetch(`/runs/${run}/entries`, { method: "POST", headers: { "Content-Type": "application/json", "X-CSRFToken": token },
                body: JSON.stringify({ page: "measure", entries: [entry] }) });
        }""",
        run,
    )
    page.goto(f"{server.address}/")
    page.wait_for_selector("html[data-ready=yes]")
    line = page.locator("#called p")
    expect(line).to_have_count(1)
    expect(line).to_contain_text("Foghorn: “Steady chamber”: the wait is over")
    page.reload()
    expect(line).to_have_count(1)
    line.get_by_role("button", name="Seen").click()
    expect(line).to_have_count(0)
    page.reload()
    page.wait_for_selector("html[data-ready=yes]")
    page.wait_for_timeout(700)
    expect(line).to_have_count(0)


def test_the_deck_says_until_when_it_waits(page: Page, server: Server, new_run: Callable[..., int]) -> None:
    run = new_run("Waited for", experiment="charge-to-mass")
    page.locator("#call-go").click()
    expect(page.locator("#kept")).to_have_attribute("data-state", "saved")
    entries = page.request.get(f"{server.address}/runs/{run}/logbook.json").json()["entries"]
    assert any(e["kind"] == "timer" and "until" in e["body"] for e in entries)


def test_a_call_is_shown_to_its_bench_alone_and_covers_no_cell(
    page: Page, server: Server, new_run: Callable[..., int]
) -> None:
    mine, other = new_run(bench="Wick"), new_run(bench="Prism")
    page.goto(f"{server.address}/runs/{mine}/measure")
    page.wait_for_selector("html[data-ready=yes]")
    page.evaluate(
        """async (run) => {
            const token = document.querySelector('meta[name="csrf-token"]').content;
            const entry = { key: crypto.randomUUID(), kind: "timer", slot: "timer:" + crypto.randomUUID(), made_at: new Date().toISOString(),
                body: { call: "wait", until: new Date(Date.now() - 1000).toISOString() } };
            await fetch(`/runs/${run}/entries`, { method: "POST", headers: { "Content-Type": "application/json", "X-CSRFToken": token },
                body: JSON.stringify({ page: "measure", entries: [entry] }) });
        }""",
        mine,
    )
    page.goto(f"{server.address}/runs/{other}/measure")
    page.wait_for_selector("html[data-ready=yes]")
    page.wait_for_timeout(600)
    expect(page.locator("#called p")).to_have_count(0)
    page.set_viewport_size({"width": 390, "height": 700})
    page.goto(f"{server.address}/runs/{mine}/measure")
    expect(page.locator("#called p")).to_have_count(1)
    wide = page.evaluate("document.documentElement.scrollWidth")
    assert wide <= 390
    for cell in page.locator("#tables table input[data-slot]").all()[:24]:
        cell.focus()
        covered = page.evaluate(
            "() => { const [a, b] = [document.activeElement, document.getElementById('called')].map(e => e.getBoundingClientRect());"
            " return a.right > b.left && a.left < b.right && a.bottom > b.top && a.top < b.bottom; }"
        )
        assert not covered
