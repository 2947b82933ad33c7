"""What a hand feels on a slow tablet over a slow network: a browser slowed fourfold, 200 ms to the server, timed from the press until it shows."""

import statistics
import time
from collections.abc import Iterator
from uuid import uuid4

from playwright.sync_api import Page, sync_playwright

from bench.pendulum import document
from bench.ratio import Row
from bench.served import PENDULUM, Client, Served
from cavrel.core.logbook.document_parts import slots_of
from cavrel.store import runs as run_store
from cavrel.store.pool import transaction
from tools.chromium import ARGUMENTS, EXECUTABLE

SLOWER, LATENCY = 4, 200
TIMES = 7
READY = "html[data-ready=yes]"
SHOWN = """selector => new Promise(done => { const began = performance.now();
    document.addEventListener("cavrel:saved", () => done(performance.now() - began), { once: true });
    document.querySelector(selector).click(); })"""


def hands(here: Served) -> Iterator[Row]:
    """A set point, an axis, the next page, against what a person does not notice as waiting."""
    with transaction(here.pool) as connection:
        run = run_store.start(connection, here.course, here.bench, PENDULUM, "Slow", uuid4())
    client = Client(here.ours, run)
    for slot, text in slots_of(document()):
        client.save(slot, text)
    client.save("quantities.N.1", "20")
    root = f"http://127.0.0.1:{here.ours}/runs/{run}"
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=EXECUTABLE, args=ARGUMENTS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(f"{root}/measure", wait_until="networkidle")
        if page.locator("#gate-read").count():
            page.locator("#gate-read").click()
            page.wait_for_timeout(500)
        slowed = page.context.new_cdp_session(page)
        slowed.send("Emulation.setCPUThrottlingRate", {"rate": SLOWER})
        slowed.send(
            "Network.emulateNetworkConditions",
            {"offline": False, "latency": LATENCY, "downloadThroughput": -1, "uploadThroughput": -1},
        )
        set_point = statistics.median(_set_point(page, root) for _ in range(TIMES))
        axis = statistics.median(_pressed(page, f"{root}/fit", ".stamp-card:not([aria-current])") for _ in range(TIMES))
        onward = statistics.median(_pressed(page, f"{root}/plan", "#next-step a") for _ in range(TIMES))
        browser.close()
    what = f"{SLOWER} times slower, {LATENCY} ms away"
    yield Row(f"a set point until what follows shows, {what}", set_point, 0.5, "0.5 s", 1.0)
    yield Row(f"another axis, {what}", axis, 0.5, "0.5 s", 1.0)
    yield Row(f"from one page to the next, {what}", onward, 0.8, "0.8 s", 1.0)


def _set_point(page: Page, root: str) -> float:
    page.goto(f"{root}/plan")
    page.wait_for_selector(READY)
    page.wait_for_load_state("networkidle")
    return float(page.evaluate(SHOWN, "[data-peg=add]")) / 1e3


def _pressed(page: Page, address: str, selector: str) -> float:
    """From pressing a link until its page takes input, s."""
    page.goto(address)
    page.wait_for_selector(READY)
    page.wait_for_load_state("networkidle")
    link = page.locator(selector).first
    link.hover()
    page.wait_for_timeout(150)  # as long as a hand needs from over it to pressing it
    began = time.perf_counter()
    link.click()
    page.wait_for_function(
        "address => location.href !== address && document.documentElement.dataset.ready === 'yes'", arg=address
    )
    return time.perf_counter() - began
