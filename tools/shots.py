"""Take the pictures in docs/screenshots anew, from the demonstration course, at 1280 × 800."""

import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from cavrel.store.cluster import Cluster, free_port
from tools.chromium import ARGUMENTS, EXECUTABLE, wait_until_served

ROOT = Path(__file__).resolve().parent.parent
TARGET = ROOT / "docs" / "screenshots"


def timing(page: Page) -> None:
    """The watch running in a half-measured run."""
    page.locator('input[data-slot="swings.t.4.3"]').click()
    for _ in range(8):
        page.keyboard.press("Space")
        page.wait_for_timeout(330)


def fault(page: Page) -> None:
    """A name that is not there, said beside its line."""
    text = page.locator("#text")
    text.fill(text.input_value().replace('formula = "n*m*g_local"', 'formula = "n*m*g_lokal"'))
    page.wait_for_timeout(1500)
    page.locator("[data-line]").first.click()
    page.wait_for_timeout(300)


def samples(page: Page) -> None:
    """A cart that rests, speeds up and is caught, with the clean stretch chosen."""
    page.locator(".trace-link").nth(3).click()
    page.wait_for_selector("#samples")
    speeds = [
        (i / 50, min(max(0.0, 0.79 * (i / 50 - 0.4)), 1.3) + 0.006 * ((i * 7919) % 13 - 6) / 6) for i in range(130)
    ]
    page.locator("#samples").fill("\n".join(f"{t:.2f}\t{v:.4f}" for t, v in speeds))
    page.get_by_role("button", name="Keep these samples").click()
    page.wait_for_selector("#trace-figure svg")
    page.wait_for_selector("html[data-ready=yes]")
    page.locator("#stretch-end").fill("1.9")
    page.locator("#stretch-begin").fill("0.6")
    page.keyboard.press("Tab")
    page.wait_for_timeout(900)


VIEWS = [
    ("shelf", "/", "light", None),
    ("experiment", "/experiments/pendulum", "light", None),
    ("experiment-bridge", "/experiments/metre-bridge", "dark", None),
    ("write", "/write?like=spring", "light", fault),
    ("runs", "/runs", "light", None),
    ("lesson", "/lessons/1", "light", None),
    ("cupboard", "/cupboard", "light", None),
    ("plan", "/runs/1/plan", "light", None),
    ("plan-dark", "/runs/9/plan", "dark", None),
    ("measure", "/runs/1/measure", "light", None),
    ("measure-rule", "/runs/5/measure", "light", None),
    ("samples", "/runs/9/measure", "light", samples),
    ("measure-dark-room", "/runs/3/measure", "dark-room", timing),
    ("straighten", "/runs/2/straighten", "light", None),
    ("straighten-dark", "/runs/1/straighten", "dark", None),
    ("judge", "/runs/1/judge", "light", None),
    ("judge-flier", "/runs/8/judge", "light", None),
    ("logbook", "/runs/1/logbook", "light", None),
    ("patterns", "/patterns", "light", None),
]


def main(only: list[str]) -> None:
    folder = Path(tempfile.mkdtemp(prefix="cavrel-shots-"))
    folder.chmod(0o755)
    cluster = Cluster(folder)
    cluster.start()
    port = free_port()
    environment = {**os.environ, "DATABASE_URL": cluster.url(), "CAVREL_PORT": str(port), "TZ": "UTC"}
    server = subprocess.Popen(
        [sys.executable, "-m", "cavrel", "demo"], cwd=ROOT, env=environment, stdout=subprocess.DEVNULL
    )
    try:
        wait_until_served(f"http://127.0.0.1:{port}")
        TARGET.mkdir(parents=True, exist_ok=True)
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path=EXECUTABLE, args=ARGUMENTS)
            for name, path, theme, act in VIEWS:
                if only and name not in only:
                    continue
                page = browser.new_page(viewport={"width": 1280, "height": 800})
                answer = page.goto(f"http://127.0.0.1:{port}{path}{'&' if '?' in path else '?'}theme={theme}")
                if answer is None or not answer.ok:
                    raise SystemExit(f"{path} does not answer as it should")
                page.wait_for_selector("html[data-ready=yes]")
                page.wait_for_timeout(400)
                if act is not None:
                    act(page)
                page.screenshot(path=TARGET / f"{name}.png")
                page.close()
                print(f"docs/screenshots/{name}.png")
            browser.close()
    finally:
        server.terminate()
        server.wait()
        cluster.stop()
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main(sys.argv[1:])
