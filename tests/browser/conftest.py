"""Fixtures: the real server as a process of its own, and headless Chromium."""

import contextlib
import os
import re
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from uuid import uuid4

import psycopg
import pytest
from playwright.sync_api import Browser, Page, ViewportSize, expect, sync_playwright
from playwright.sync_api import Error as PlaywrightError

from cavrel.store.cluster import Cluster, free_port
from tests.conftest import copied
from tests.web.http import entry, taken_suggestions
from tools.chromium import ARGUMENTS, EXECUTABLE, wait_until_served

ROOT = Path(__file__).resolve().parent.parent.parent

expect.set_options(timeout=30000)
SIZE: ViewportSize = {"width": 1280, "height": 800}


class Server:
    """``python -m cavrel demo`` on a database of its own, to be killed and started at will."""

    def __init__(self, url: str) -> None:
        self.port = free_port()
        self.database = url
        self.process: subprocess.Popen[bytes] | None = None
        self.start()

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def start(self) -> None:
        own = {"DATABASE_URL": self.database, "CAVREL_PORT": str(self.port), "CAVREL_WORKERS": "2"}
        environment = {**os.environ, **own}
        self.process = subprocess.Popen(
            [sys.executable, "-m", "cavrel", "demo"], cwd=ROOT, env=environment, stdout=subprocess.DEVNULL
        )
        wait_until_served(self.address)

    def kill(self) -> None:
        """kill -9: no block is left in an orderly way."""
        assert self.process is not None
        self.process.send_signal(signal.SIGKILL)
        self.process.wait()
        # Its workers die with it, but a moment later: who starts anew at once could still be answered by one of them.
        deadline = time.monotonic() + 20
        while self._listens():
            assert time.monotonic() < deadline, "the workers of a killed server live on"
            time.sleep(0.02)

    def _listens(self) -> bool:
        with socket.socket() as probe:
            return probe.connect_ex(("127.0.0.1", self.port)) == 0


def _served(cluster: Cluster, demonstrated: str) -> Iterator[Server]:
    made = Server(copied(cluster, demonstrated))
    yield made
    made.kill()  # an orderly stop takes three seconds, and its database goes with the tests


@pytest.fixture(scope="session")
def one_server(cluster: Cluster, demonstrated: str) -> Iterator[Server]:
    """The server of all modules that make runs of their own and leave the course as it is: starting one takes seconds."""
    yield from _served(cluster, demonstrated)


@pytest.fixture(scope="module")
def server(request: pytest.FixtureRequest) -> Iterator[Server]:
    """A server: one of its own for a module that says ``OWN_SERVER``."""
    if getattr(request.module, "OWN_SERVER", False):
        yield from _served(request.getfixturevalue("cluster"), request.getfixturevalue("demonstrated"))
    else:
        yield request.getfixturevalue("one_server")


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        made = playwright.chromium.launch(executable_path=EXECUTABLE, args=ARGUMENTS)
        yield made
        made.close()


class Tab:
    """One page for test after test, emptied between them: a page of its own for each would load every script and font anew, in a process of its
    own."""

    def __init__(self, browser: Browser) -> None:
        self._browser = browser
        self._page: Page | None = None

    def page(self) -> Page:
        if self._page is None:
            self._page = self._browser.new_context(viewport=SIZE, service_workers="block").new_page()
        return self._page

    def empty(self, address: str) -> None:
        """What a test left behind goes; where that fails, the next one gets another page."""
        page = self.page()
        try:
            for other in page.context.pages:
                if other is not page:
                    other.close()
            page.unroute_all()
            page.evaluate("location.protocol.startsWith('http') && sessionStorage.clear()")
            page.goto("about:blank", timeout=5000)
            if abs(page.evaluate("Date.now()") / 1000 - time.time()) > 1:
                raise PlaywrightError("a test moved this page's clock, which cannot be put back")
            page.set_viewport_size(SIZE)
            page.context.clear_cookies()
            session = page.context.new_cdp_session(page)
            session.send("Storage.clearDataForOrigin", {"origin": address, "storageTypes": "all"})
            session.detach()
        except PlaywrightError:
            self._page = None
            with contextlib.suppress(PlaywrightError):
                page.context.close()


@pytest.fixture(scope="session")
def tab(browser: Browser) -> Tab:
    return Tab(browser)


@pytest.fixture
def page(browser: Browser, tab: Tab, server: Server, request: pytest.FixtureRequest) -> Iterator[Page]:
    """A page at 1280 × 800 that fails the test when a script fails in it. Only a test marked ``own_window`` has one to itself, and pages
    kept for a server that is away: keeping them is a third of the work of a first visit."""
    alone = request.node.get_closest_marker("own_window") is not None
    made = browser.new_context(viewport=SIZE).new_page() if alone else tab.page()
    made.set_default_timeout(25000)  # a bound against hanging; a busy machine loads a page slowly
    faults: list[str] = []

    def failed(fault: object) -> None:
        faults.append(str(fault))

    made.on("pageerror", failed)
    yield made
    if alone:
        leave(made)
        made.context.close()
    else:
        tab.empty(server.address)
        made.remove_listener("pageerror", failed)
    assert not faults, faults


def leave(page: Page) -> None:
    """Go where nothing loads: a context that is closed while its page loads itself anew has been seen never to close."""
    with contextlib.suppress(PlaywrightError):
        page.goto("about:blank", timeout=5000)


def read_first(page: Page) -> None:
    """Safety is read, where the page asks for it."""
    if page.locator("#gate-read").count():
        page.locator("#gate-read").click()
        expect(page.locator("#kept")).to_have_attribute("data-state", "saved")


def started(
    page: Page, server: Server, experiment: str, title: str, bench: str, suggested: bool = True, **fields: str
) -> int:
    """The number of a new run, asked for as the form does; `test_a_run_from_experiments_to_g` presses the form itself."""
    with psycopg.connect(server.database) as connection:
        number = connection.execute("select id from bench where name = %s", [bench]).fetchone()
    token = page.request.get(f"{server.address}/token").json()["token"]
    assert number
    own = {
        "bench": str(number[0]),
        "title": title,
        "key": str(uuid4()),
        "csrf_token": token,
        "another": "yes",
        **fields,
    }
    answer = page.request.post(f"{server.address}/experiments/{experiment}/runs", form=own, max_redirects=0)
    found = re.search(r"/runs/(\d+)/", answer.headers["location"])
    assert found
    run = f"{server.address}/runs/{found[1]}"
    taken = taken_suggestions(
        page.request.get(f"{run}/measure").text()
    )  # one press; `test_suggested_values_wait` presses it
    if suggested and taken:
        made = [entry("reading", slot, text=value) for slot, value in taken.items()]
        saved = page.request.post(
            f"{run}/entries", data={"page": "measure", "entries": made}, headers={"X-CSRFToken": token}
        )
        assert saved.json()["refused"] == {}
    return int(found[1])


@pytest.fixture
def new_run(page: Page, server: Server) -> Callable[..., int]:
    """Starts a run and returns its number; the page is at Measure then."""

    def start(
        title: str = "A run of the tests",
        bench: str = "Foghorn",
        experiment: str = "pendulum",
        read: bool = True,
        suggested: bool = True,
    ) -> int:
        run = started(page, server, experiment, title, bench, suggested)
        page.goto(f"{server.address}/runs/{run}/measure")
        page.wait_for_selector("html[data-ready=yes]")
        if read:
            read_first(page)
        return run

    return start


@pytest.fixture(scope="module")
def shared(browser: Browser) -> Iterator[Page]:
    """One page for a whole module, which goes on where the last test left it."""
    context = browser.new_context(viewport=SIZE, service_workers="block")
    made = context.new_page()
    made.set_default_timeout(25000)
    faults: list[str] = []
    made.on("pageerror", lambda fault: faults.append(str(fault)))
    yield made
    leave(made)
    context.close()
    assert not faults, faults
