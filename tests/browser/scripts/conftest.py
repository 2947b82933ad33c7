"""A script alone in a page: its modules from the tree, what it asks of the server answered by the test."""

import json
from collections.abc import Callable, Iterator
from pathlib import Path
from urllib.parse import urlsplit

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, Route

JS = Path(__file__).resolve().parents[3] / "cavrel" / "web" / "static" / "js"
HOME = "http://localhost:1"  # a page that browsers trust, as the real one on loopback; nothing is served there
PAGE = """<!doctype html><meta name="csrf-token" content="first"><title>A page</title>
<body data-store="S" data-run="7" data-page="measure" data-last="0" data-zone="Europe/London" data-entries-url="/entries"
data-news-url="/news" data-token-url="/token"><p id="kept">nothing yet</p><div id="refused"></div><p id="said"></p>%s</body>"""


class Bare:
    """``sent``: the batches that came to the server, in order. ``answer``: what it says to one, as (status, object)."""

    def __init__(self, context: BrowserContext) -> None:
        self.page: Page = context.new_page()
        self.sent: list[dict] = []
        self.answer: Callable[[dict], tuple[int, dict]] = taken
        self.body = ""
        context.route(f"{HOME}/**", self._serve)

    def _serve(self, route: Route) -> None:
        path = urlsplit(route.request.url).path
        if path == "/":
            route.fulfill(content_type="text/html", body=PAGE % self.body)
        elif path.startswith("/js/"):
            route.fulfill(content_type="text/javascript", path=JS / path.removeprefix("/js/"))
        elif path == "/entries":
            batch = {**json.loads(route.request.post_data or ""), "token": route.request.headers["x-csrftoken"]}
            self.sent.append(batch)
            status, said = self.answer(batch)
            route.fulfill(status=status, json=said)
        elif path == "/token":
            route.fulfill(json={"token": "second"})
        else:  # news
            route.fulfill(json={"store": "S", "at": "2026-12-01T18:00:00Z", "last": 0})

    def open(self, body: str = "", *modules: str) -> Page:
        """The page with its modules, at ``window.<module>``."""
        self.body = body
        self.page.goto(HOME)
        for module in modules:
            self.page.evaluate("async (name) => { window[name] = await import(`/js/${name}.js`); }", module)
        return self.page

    def texts(self) -> list[list[str]]:
        """What each batch carried."""
        return [[entry["body"]["text"] for entry in batch["entries"]] for batch in self.sent]


def taken(batch: dict) -> tuple[int, dict]:
    """Everything is saved."""
    keys = [entry["key"] for entry in batch["entries"]]
    return 200, {"keys": keys, "refused": {}, "at": "2026-12-01T18:00:00Z", "html": "", "last": 1}


@pytest.fixture
def bare(browser: Browser) -> Iterator[Bare]:
    context = browser.new_context(service_workers="block")
    made = Bare(context)
    faults: list[str] = []
    made.page.on("pageerror", lambda fault: faults.append(str(fault)))
    yield made
    context.close()
    assert not faults, faults
