"""Nothing shown as saved is lost; nothing typed is lost either."""

import re
from collections.abc import Callable

import psycopg
import pytest
from playwright.sync_api import Browser, Page, expect

from cavrel.store.cluster import Cluster
from tests.browser.conftest import Server
from tests.browser.test_measure import cell, saved
from tests.web.http import entry


def _texts(page: Page, server: Server, run: int) -> dict[str, str]:
    for _ in range(40):  # another process of the server may still wait for its database
        answer = page.request.get(f"{server.address}/runs/{run}/logbook.json")
        if answer.status != 503:
            break
        page.wait_for_timeout(250)
    entries = answer.json()["entries"]
    return {e["slot"]: e["body"]["text"] for e in entries if e["kind"] == "reading"}


def _emptied(page: Page) -> None:
    """Wait until nothing is kept in the browser any more."""
    for _ in range(200):
        if not page.evaluate("Object.keys(localStorage).some((name) => name.startsWith('cavrel.entry.'))"):
            return
        page.wait_for_timeout(50)
    raise AssertionError("entries are still kept in the browser")


def test_kill_9_between_saves_and_a_crashed_database_lose_nothing(
    page: Page, server: Server, cluster: Cluster, new_run: Callable[..., int]
) -> None:
    run = new_run("Killed between saves", suggested=False)
    shown: dict[str, str] = {}
    for i, text in enumerate(["31.11", "31.02"]):
        slot = f"swings.t.1.{i + 1}"
        cell(page, slot).fill(text)
        page.keyboard.press("Enter")
        saved(page)
        shown[slot] = text
        server.kill()
        if i == 1:
            # The database goes down as in a power cut and recovers from its log, at another port.
            cluster.crash()
            cluster.start()
            server.database = cluster.url(server.database.rsplit("/", 1)[1])
        server.start()
        expect(page.locator("#kept")).to_have_attribute("data-state", "saved")
    assert _texts(page, server, run) == shown
    page.reload()
    for slot, text in shown.items():
        expect(cell(page, slot)).to_have_value(text)


@pytest.mark.own_window
def test_entries_made_while_the_server_is_away_are_kept_here_and_sent_later(
    page: Page, server: Server, new_run: Callable[..., int]
) -> None:
    run = new_run("Typed while away", suggested=False)
    # The page must have been seen once under its service worker, or it could not be loaded again without its server.
    page.evaluate("navigator.serviceWorker.ready.then(() => true)")
    page.reload()
    page.wait_for_selector("html[data-ready=yes]")
    page.wait_for_timeout(400)
    server.kill()
    try:
        cell(page, "swings.t.1.1").fill("31.11")
        page.keyboard.press("Enter")
        cell(page, "swings.t.2.1").fill("38.2")
        page.keyboard.press("Enter")
        expect(page.locator("#kept")).to_have_text(re.compile("2 saved on this device"))
        page.reload()
        page.wait_for_selector("html[data-ready=yes]")
        expect(cell(page, "swings.t.1.1")).to_have_value("31.11")
        expect(page.locator("#kept")).to_have_text(re.compile("2 saved on this device"))
        cell(page, "swings.t.3.1").fill("44.01")
        page.keyboard.press("Enter")
        expect(page.locator("#kept")).to_have_text(re.compile("3 saved on this device"))
    finally:
        server.start()
    expect(page.locator("#kept")).to_have_attribute("data-state", "saved", timeout=15000)
    assert _texts(page, server, run) == {"swings.t.1.1": "31.11", "swings.t.2.1": "38.2", "swings.t.3.1": "44.01"}


def test_an_answer_lost_on_the_way_is_sent_again_and_counts_once(
    page: Page, server: Server, new_run: Callable[..., int]
) -> None:
    run = new_run("Answer lost", suggested=False)
    dropped = []

    def drop_the_first(route, request):
        if dropped:
            return route.continue_()
        dropped.append(request.post_data)
        route.fetch()  # it reaches the server; the page never hears so
        return route.abort()

    page.route("**/entries", drop_the_first)
    cell(page, "swings.t.1.1").fill("31.11")
    page.keyboard.press("Enter")
    expect(page.locator("#kept")).to_have_attribute("data-state", "saved", timeout=15000)
    assert len(dropped) == 1
    for _ in range(40):  # another process of the server may still wait for its database
        answer = page.request.get(f"{server.address}/runs/{run}/logbook.json")
        if answer.status != 503:
            break
        page.wait_for_timeout(250)
    entries = answer.json()["entries"]
    assert [e["body"]["text"] for e in entries if e["kind"] == "reading"] == ["31.11"]


def test_a_half_typed_reading_survives_a_reload(page: Page, new_run: Callable[..., int]) -> None:
    new_run("Half typed")
    cell(page, "swings.t.2.3").focus()
    page.keyboard.type("38.")
    page.evaluate("window.stop(); location.reload()")
    page.wait_for_selector("html[data-ready=yes]")
    expect(cell(page, "swings.t.2.3")).to_have_value("38.")


def test_a_page_older_than_its_token_still_saves(page: Page, server: Server, new_run: Callable[..., int]) -> None:
    new_run("Stale token")
    page.evaluate("document.querySelector('meta[name=csrf-token]').content = 'stale'")
    cell(page, "swings.t.1.1").fill("31.11")
    page.keyboard.press("Enter")
    expect(page.locator("#kept")).to_have_attribute("data-state", "saved")
    expect(page.locator("#rail")).to_contain_text("1 of 40 readings")


def test_two_pages_on_one_cell_lose_neither_reading(page: Page, server: Server, new_run: Callable[..., int]) -> None:
    run = new_run("Two pages", suggested=False)
    other = page.context.new_page()
    other.goto(f"{server.address}/runs/{run}/measure")
    other.wait_for_selector("html[data-ready=yes]")
    for on, text in ((page, "31.11"), (other, "31.71")):
        cell(on, "swings.t.1.1").fill(text)
        on.keyboard.press("Enter")
        saved(on)
    expect(other.locator(".note", has_text="was entered twice")).to_contain_text("31.11")


def test_an_entry_the_server_cannot_take_is_shown_and_blocks_nothing(
    page: Page, server: Server, new_run: Callable[..., int]
) -> None:
    run = new_run("Refused", suggested=False)
    page.evaluate(
        """() => localStorage.setItem(`cavrel.entry.${document.body.dataset.store}.${document.body.dataset.run}.1.a`, JSON.stringify(
        {key: "4f6dd4f8-6d0e-4d3f-8a39-2f0f5e1c9a77", kind: "reading", slot: "swings.Q.1.1", body: {text: "12.71"},
        made_at: new Date().toISOString()}))"""
    )
    page.reload()
    expect(page.locator("#refused")).to_contain_text("12.71")
    cell(page, "swings.t.1.1").fill("31.11")
    page.keyboard.press("Enter")
    saved(page)
    assert _texts(page, server, run) == {"swings.t.1.1": "31.11"}


def test_while_the_database_is_away_the_page_keeps_and_says_so(
    page: Page, server: Server, cluster: Cluster, new_run: Callable[..., int]
) -> None:
    run = new_run("Database away", suggested=False)
    name = server.database.rsplit("/", 1)[1]
    with psycopg.connect(cluster.url("postgres"), autocommit=True) as admin:
        admin.execute(f"alter database {name} allow_connections false")
        admin.execute("select pg_terminate_backend(pid) from pg_stat_activity where datname = %s", [name])
        try:
            cell(page, "swings.t.1.1").fill("31.11")
            page.keyboard.press("Enter")
            expect(page.locator("#kept")).to_have_text(re.compile("1 saved on this device"), timeout=15000)
        finally:
            admin.execute(f"alter database {name} allow_connections true")
    expect(page.locator("#kept")).to_have_attribute("data-state", "saved", timeout=20000)
    assert _texts(page, server, run) == {"swings.t.1.1": "31.11"}


def test_what_is_typed_before_the_scripts_are_there_is_kept(
    page: Page, browser: Browser, server: Server, new_run: Callable[..., int]
) -> None:
    """The network goes while a page loads: it says that it keeps what is typed, and loads itself again when it can."""
    run = new_run("Typed at once", suggested=False)
    context = browser.new_context(service_workers="block")  # it would fetch the script past the test's own hand
    early = context.new_page()
    early.clock.install()
    early.route("**/js/page.js", lambda route: route.abort())
    early.goto(page.url, wait_until="domcontentloaded")
    cell(early, "swings.t.1.1").fill("31.11")
    early.keyboard.press("Enter")
    cell(early, "swings.t.2.1").fill("38.")
    expect(early.locator("#kept")).to_have_text("saved on this device until the page is ready")
    early.unroute("**/js/page.js")
    early.clock.fast_forward(8000)
    early.wait_for_selector("html[data-ready=yes]")
    saved(early)
    expect(cell(early, "swings.t.1.1")).to_have_value("31.11")
    expect(cell(early, "swings.t.2.1")).to_have_value("38.")
    expect(cell(early, "swings.t.2.1")).to_be_focused()
    assert _texts(page, server, run) == {"swings.t.1.1": "31.11"}
    context.close()


def test_a_draft_that_outlived_its_entry_is_the_same_entry(
    page: Page, server: Server, new_run: Callable[..., int]
) -> None:
    """A tab that dies between keeping an entry and clearing its draft: the next one keeps it again, under the same key."""
    run = new_run("A draft that lived on", suggested=False)
    cell(page, "swings.t.1.1").fill("31.11")
    name, draft = page.evaluate(
        "Object.entries(localStorage).find(([name]) => name.startsWith('cavrel.draft.') && name.endsWith('swings.t.1.1'))"
    )
    page.keyboard.press("Enter")
    saved(page)
    page.evaluate("([name, draft]) => localStorage.setItem(name, draft)", [name, draft])
    page.evaluate("document.querySelector('input[data-slot=\"swings.t.1.1\"]').dataset.saved = ''")
    cell(page, "swings.t.1.1").focus()
    page.keyboard.press("Enter")
    saved(page)
    kept = page.request.get(f"{server.address}/runs/{run}/logbook.json").json()["entries"]
    assert [e["body"]["text"] for e in kept if e["slot"] == "swings.t.1.1"] == ["31.11"]


_STALLED = """() => {
    const fetch = window.fetch;
    window.stalled = 0;
    window.fetch = async (address, given) => {
        const answer = await fetch(address, given);
        if (!String(address).endsWith("/entries") || window.flowing) return answer;
        window.stalled += 1;
        const first = (await answer.text()).split("\\n")[0];
        const body = new ReadableStream({ start(out) { out.enqueue(new TextEncoder().encode(first + "\\n")); } });
        return new Response(body, { headers: answer.headers });
    };
}"""


@pytest.mark.own_window
def test_a_reading_is_saved_and_the_next_one_sent_though_figures_never_come(
    page: Page, server: Server, new_run: Callable[..., int]
) -> None:
    page.clock.install()
    run = new_run("Figures late", suggested=False)
    page.evaluate(_STALLED)
    for i, text in enumerate(["31.11", "31.02", "31.07"]):
        cell(page, f"swings.t.1.{i + 1}").fill(text)
        page.keyboard.press("Enter")
        expect(page.locator("#kept[data-behind]")).to_have_attribute("data-state", "saved")
    assert page.evaluate("window.stalled") == 3
    assert _texts(page, server, run) == {"swings.t.1.1": "31.11", "swings.t.1.2": "31.02", "swings.t.1.3": "31.07"}
    page.clock.fast_forward(8000)
    expect(page.locator("#rail")).to_contain_text("3 of 40 readings", timeout=15000)  # asked for anew after a while
    page.evaluate("window.flowing = true")
    cell(page, "swings.t.1.4").fill("31.05")
    page.keyboard.press("Enter")
    expect(page.locator("#rail")).to_contain_text("4 of 40 readings")
    cell(page, "swings.t.1.1").fill("31.12")  # each cell knows the entry it writes over: no clash is seen
    page.keyboard.press("Enter")
    saved(page)
    expect(page.locator("#notes")).not_to_contain_text("entered twice")
    for _ in range(40):  # another process of the server may still wait for its database
        answer = page.request.get(f"{server.address}/runs/{run}/logbook.json")
        if answer.status != 503:
            break
        page.wait_for_timeout(250)
    entries = answer.json()["entries"]
    assert entries[-1]["kind"] == "correction" and entries[-1]["body"]["text"] == "31.12"


def test_a_clock_that_is_set_back_changes_no_order(page: Page, server: Server, new_run: Callable[..., int]) -> None:
    run = new_run("Clock set back", suggested=False)
    page.route("**/entries", lambda route: route.abort())
    cell(page, "swings.t.1.1").fill("13.1")
    page.keyboard.press("Enter")
    expect(page.locator("#kept")).to_contain_text("1 saved on this device")
    page.evaluate("(() => { const now = Date.now; Date.now = () => now() - 3600000; })()")
    cell(page, "swings.t.1.1").fill("31.1")
    page.keyboard.press("Enter")
    expect(page.locator("#kept")).to_contain_text("2 saved on this device")
    page.unroute("**/entries")
    page.reload()
    expect(page.locator("#rail")).to_contain_text("1 of 40 readings")
    _emptied(page)
    expect(cell(page, "swings.t.1.1")).to_have_value("31.1")
    for _ in range(40):  # another process of the server may still wait for its database
        answer = page.request.get(f"{server.address}/runs/{run}/logbook.json")
        if answer.status != 503:
            break
        page.wait_for_timeout(250)
    entries = answer.json()["entries"]
    kept = [(e["kind"], e["body"]["text"]) for e in entries if e["slot"] == "swings.t.1.1"]
    assert kept == [("reading", "13.1"), ("correction", "31.1")]


def test_a_late_reading_asks_in_the_page_that_sent_it(page: Page, server: Server, new_run: Callable[..., int]) -> None:
    run = new_run("Late tablet", suggested=False)
    page.route("**/entries", lambda route: route.abort())
    page.route("**/news?*", lambda route: route.abort())
    cell(page, "swings.t.1.1").fill("13.1")
    page.keyboard.press("Enter")
    expect(page.locator("#kept")).to_contain_text("1 saved on this device")
    page.wait_for_timeout(1200)
    # Another device knows nothing of what this one keeps.
    fresh = entry("reading", "swings.t.1.1", text="31.1", over=None)
    token = page.evaluate("document.querySelector('meta[name=csrf-token]').content")
    answer = page.request.post(
        f"{server.address}/runs/{run}/entries", data={"entries": [fresh]}, headers={"X-CSRFToken": token}
    )
    assert answer.ok
    page.unroute_all()
    note = page.locator("#notes .note", has_text="13.1 arrived late")
    expect(note).to_be_visible()
    expect(cell(page, "swings.t.1.1")).to_have_value("31.1")
    note.get_by_role("button", name="Use 13.1").click()
    expect(cell(page, "swings.t.1.1")).to_have_value("13.1")
    expect(note).to_have_count(0)
    saved(page)
