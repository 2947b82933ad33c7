"""Whether anything typed is lost: `./run kills [cuts] [--seed N]`.

A real server on a database of its own, two tabs of one browser and a second device, and something cut again and again while readings are typed:
the server, one of its processes, the database, the network, the page, a tab; clocks are moved and a browser's store is full for a while. Every text
that was typed is different, so that each can be counted in the logbook: it is to stand there once.
"""

import argparse
import contextlib
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from playwright.sync_api import Browser, BrowserContext, Page, sync_playwright

from cavrel.store.cluster import Cluster, free_port
from tools.chromium import ARGUMENTS, EXECUTABLE, wait_until_served

ROOT = Path(__file__).resolve().parent.parent
EACH = 10
"""Cuts between two counts."""
SETTLES = 60.0
_FULL = """(() => { Storage.prototype.setItem = () => { throw new DOMException("full", "QuotaExceededError"); }; })()"""


@dataclass
class World:
    """What is cut."""

    cluster: Cluster
    port: int
    draw: random.Random
    server: subprocess.Popen[bytes] | None = None
    typed: dict[str, str] = field(default_factory=dict)
    number: int = 0
    run: int = 0

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def start(self) -> None:
        own = {"DATABASE_URL": self.cluster.url(), "CAVREL_PORT": str(self.port), "CAVREL_WORKERS": "2"}
        self.server = subprocess.Popen(
            [sys.executable, "-m", "cavrel", "demo"],
            cwd=ROOT,
            env={**os.environ, **own},
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        wait_until_served(self.address)

    def kill(self) -> None:
        assert self.server is not None
        self.server.send_signal(signal.SIGKILL)
        self.server.wait()
        time.sleep(0.3)

    def workers(self) -> list[int]:
        assert self.server is not None
        return [grand for child in _children(self.server.pid) for grand in _children(child)]


def _children(parent: int) -> list[int]:
    found = []
    for folder in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):
            if int((folder / "stat").read_text().rpartition(")")[2].split()[1]) == parent:
                found.append(int(folder.name))
    return found


def opened(context: BrowserContext, world: World) -> Page:
    """A tab on the run; where the server is away just now, it is asked for again."""
    page = context.new_page()
    page.on("dialog", lambda dialog: dialog.accept())
    _gone_to(page, world)
    return page


def _gone_to(page: Page, world: World) -> None:
    for _ in range(30):
        with contextlib.suppress(Exception):
            page.goto(f"{world.address}/runs/{world.run}/measure", timeout=15000)
            page.wait_for_selector("html[data-ready=yes]", timeout=15000)
            return
        time.sleep(0.5)
    raise RuntimeError("the page did not come back")


def type_one(page: Page, world: World, leave: bool = True) -> str:
    """A reading that nobody else types, into a cell drawn at random; its slot. ``leave``: the cell, too."""
    world.number += 1
    text = f"{30 + world.number // 1000}.{world.number % 1000:03d}"
    slot = f"swings.t.{world.draw.randint(1, 8)}.{world.draw.randint(1, 5)}"
    cell = page.locator(f'input[data-slot="{slot}"]')
    cell.fill(text)
    world.typed[text] = slot
    if leave:
        cell.press("Enter")
    return slot


def cut(world: World, pages: dict[str, Page], browser: Browser) -> str:
    """One cut while readings are typed; what it was."""
    draw = world.draw
    who = draw.choice(list(pages))
    page = pages[who]
    kind = draw.choice(
        ["server", "worker", "database", "network", "reload", "half typed", "tab", "clock", "full", "three at once"]
    )
    type_one(page, world)
    if kind == "server":
        world.kill()
        type_one(page, world)
        world.start()
    elif kind == "worker":
        with contextlib.suppress(ProcessLookupError, IndexError):
            os.kill(draw.choice(world.workers()), signal.SIGKILL)
        type_one(page, world)
    elif kind == "database":
        world.cluster.crash()
        type_one(page, world)
        world.cluster.start()
        world.kill()  # its address may be another one now
        world.start()
    elif kind == "network":
        page.route("**/entries", lambda route: route.abort())
        type_one(page, world)
        type_one(page, world)
        page.unroute("**/entries")
    elif kind == "reload":
        page.reload()
        page.wait_for_selector("html[data-ready=yes]")
    elif kind == "half typed":
        slot = type_one(page, world, leave=False)
        page.evaluate("window.stop(); location.reload()")
        page.wait_for_selector("html[data-ready=yes]")
        page.locator(f'input[data-slot="{slot}"]').press("Enter")
    elif kind == "tab":
        context = page.context
        page.close()
        pages[who] = opened(context, world)
    elif kind == "clock":
        hours = draw.choice([-5, -1, 1, 26])
        page.evaluate(
            f"(() => {{ const D = Date, by = {hours} * 3600000; Date.now = () => new D().getTime() + by; }})()"
        )
        type_one(page, world)
        page.reload()
        page.wait_for_selector("html[data-ready=yes]")
    elif kind == "full":
        page.evaluate(_FULL)
        type_one(page, world)
        _settled(page)
        page.reload()
        page.wait_for_selector("html[data-ready=yes]")
    else:
        for one in pages.values():
            type_one(one, world)
    return kind


def _settled(page: Page) -> bool:
    end = time.monotonic() + SETTLES
    while time.monotonic() < end:
        if page.locator("#kept").get_attribute("data-state") == "saved" and not page.evaluate(
            "Object.keys(localStorage).some((name) => name.startsWith('cavrel.entry.'))"
        ):
            return True
        page.wait_for_timeout(100)
    return False


def counted(world: World, pages: dict[str, Page]) -> tuple[int, int, int]:
    """How many texts are lost, how many stand twice, and how many pages are stuck."""
    stuck = sum(not _settled(page) for page in pages.values())
    page = next(iter(pages.values()))
    entries: list[dict[str, Any]] = page.request.get(f"{world.address}/runs/{world.run}/logbook.json").json()["entries"]
    found = Counter(str(e["body"].get("text")) for e in entries if e["kind"] in ("reading", "correction", "late"))
    lost = [text for text in world.typed if not found[text]]
    twice = [text for text in world.typed if found[text] > 1]
    for text in lost[:5]:
        print(f"lost: {text} in {world.typed[text]}")
    for text in twice[:5]:
        print(f"twice: {text} in {world.typed[text]}")
    return len(lost), len(twice), stuck


def main() -> None:
    reader = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    reader.add_argument("cuts", nargs="?", type=int, default=200)
    reader.add_argument("--seed", type=int, default=1)
    asked = reader.parse_args()
    folder = Path(tempfile.mkdtemp(prefix="cavrel-kills-"))
    folder.chmod(0o755)
    cluster = Cluster(folder)
    cluster.start()
    world = World(cluster, free_port(), random.Random(asked.seed))
    kinds: Counter[str] = Counter()
    bad = (0, 0, 0)
    try:
        world.start()
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path=EXECUTABLE, args=ARGUMENTS)
            first, second = browser.new_context(), browser.new_context()
            page = first.new_page()
            page.goto(f"{world.address}/experiments/pendulum")
            page.locator("#bench").select_option(index=1)
            page.locator("#title").fill("Cut again and again")
            page.get_by_role("button", name="Start measuring").click()
            page.wait_for_selector("#tables, button[name=another]")
            if page.locator("button[name=another]").count():
                page.locator("button[name=another]").click()
            page.wait_for_selector("html[data-ready=yes] #tables")
            if page.locator("#gate-read").count():
                page.locator("#gate-read").click()
            world.run = int(page.url.split("/runs/")[1].split("/")[0])
            _settled(page)
            page.close()
            pages = {"tab": opened(first, world), "other tab": opened(first, world), "device": opened(second, world)}
            for i in range(asked.cuts):
                kinds[cut(world, pages, browser)] += 1
                if (i + 1) % EACH == 0 or i + 1 == asked.cuts:
                    bad = counted(world, pages)
                    print(
                        f"{i + 1} cuts, {len(world.typed)} readings typed: {bad[0]} lost, {bad[1]} twice, {bad[2]} stuck",
                        flush=True,
                    )
                    if any(bad):
                        break
            browser.close()
    finally:
        with contextlib.suppress(Exception):
            world.kill()
        cluster.crash()
        shutil.rmtree(folder, ignore_errors=True)
    print(", ".join(f"{kind} {many}" for kind, many in sorted(kinds.items())))
    sys.exit(any(bad))


if __name__ == "__main__":
    main()
