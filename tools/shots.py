"""Take the pictures in docs/screenshots anew, from the demonstration course, at 1280 × 800."""

import os
import random
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
    """A name that is not there, said next to its line."""
    text = page.locator("#text")
    text.fill(text.input_value().replace('formula = "n*m*g_local"', 'formula = "n*m*g_lokal"'))
    page.wait_for_timeout(1500)
    page.locator("[data-line]").first.click()
    page.wait_for_timeout(300)


def samples(page: Page) -> None:
    """A cart that rests, speeds up and is caught, with the clean stretch chosen."""
    page.locator(".trace-link").nth(3).click()
    page.wait_for_selector("#samples-text")
    draw = random.Random(7)
    speeds = [(i / 50, min(max(0.0, 0.79 * (i / 50 - 0.4)), 1.3) + draw.gauss(0, 0.004)) for i in range(130)]
    page.locator("#samples-text").fill("time (s)\tvelocity (m/s)\n" + "\n".join(f"{t:.2f}\t{v:.4f}" for t, v in speeds))
    page.locator("#keep-samples").click()
    page.locator("#take-proposed").click()
    page.wait_for_timeout(900)
    page.locator("#trace-panel").scroll_into_view_if_needed()
    page.wait_for_timeout(300)


def on_screen(page: Page, bench: str, cells: dict[str, str], slot: str) -> None:
    """Start a run of the experiment shown with the simulated apparatus, set what it asks for, and go to a reading."""
    page.get_by_label("Bench").select_option(label=bench)
    page.get_by_label("simulated apparatus").check()
    page.get_by_role("button", name="Start measuring").click()
    page.wait_for_selector("#tables, button[name=another]")
    if page.locator("button[name=another]").count():
        page.locator("button[name=another]").click()
    page.wait_for_selector("html[data-ready=yes] #tables")
    if page.locator("#gate-read").count():
        page.locator("#gate-read").click()
    for place, text in cells.items():
        page.locator(f'input[data-slot="{place}"]').fill(text)
        page.keyboard.press("Enter")
    page.wait_for_timeout(700)
    page.locator(f'input[data-slot="{slot}"]').focus()
    page.wait_for_timeout(900)


def null(page: Page) -> None:
    """The contact near the null of a wire bridge."""
    on_screen(page, "Fresnel", {"first.K.1.1": "4.5"}, "first.l.1.1")
    low, high = 0.0, 100.0
    for _ in range(6):
        middle = (low + high) / 2
        page.locator("#bench-move").fill(f"{middle:.2f}")
        low, high = (middle, high) if "left" in page.locator("#bench-state").inner_text() else (low, middle)
    page.wait_for_timeout(300)


def telescope(page: Page) -> None:
    """Lines of hydrogen in the field of a telescope, and its circle with the vernier."""
    on_screen(page, "Lantern", {"lines.n.1.1": "5"}, "lines.theta_l.1.1")
    page.locator("#bench-move").fill("165.3")
    page.wait_for_timeout(300)


def marked(page: Page) -> None:
    """A submitted report in the hands of a marker."""
    page.get_by_label("Submitted by").fill("Fresnel")
    page.get_by_role("button", name="Submit").click()
    page.get_by_role("button", name="Submit anyway").click()
    page.wait_for_selector(".signed-line")
    page.goto(f"{page.url.partition('?')[0]}/mark")
    page.wait_for_selector("html[data-ready=yes]")
    for name, points in (("table", "4"), ("graph", "3.5"), ("line", "4")):
        page.locator(f"[data-points$='points.{name}']").fill(points)
        page.keyboard.press("Tab")
    page.locator("#remark-results summary").click()
    page.get_by_role("textbox", name="Remark on Results").fill("Which of the two would you believe, and why?")
    page.locator("h1").click()
    page.wait_for_timeout(900)


VIEWS = [
    ("experiments", "/", "light", None),
    ("experiment", "/experiments/pendulum", "light", None),
    ("write", "/write?like=spring", "light", fault),
    ("runs", "/runs", "light", None),
    ("lesson", "/lessons/1", "light", None),
    ("laboratory", "/laboratory", "light", None),
    ("plan", "/runs/1/plan", "light", None),
    ("measure", "/runs/1/measure", "light", None),
    ("measure-rule", "/runs/5/measure", "light", None),
    ("samples", "/runs/9/measure", "light", samples),
    ("bench-null", "/experiments/metre-bridge", "light", null),
    ("bench-telescope", "/experiments/hydrogen-lines", "light", telescope),
    ("measure-dark-room", "/runs/3/measure", "dark-room", timing),
    ("fit", "/runs/1/fit?fit=line&draw=triangle", "dark", None),
    ("result", "/runs/1/result", "light", None),
    ("report", "/runs/1/report", "light", None),
    ("marking", "/runs/12/report", "light", marked),
    ("logbook", "/runs/1/logbook", "light", None),
    ("course-new", "/courses/new", "light", None),
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
