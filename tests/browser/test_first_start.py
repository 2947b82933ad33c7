"""From an empty folder to the first reading, by hand in a browser."""

import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from cavrel.store.cluster import free_port
from tests.browser.conftest import ROOT
from tools.chromium import wait_until_served


@pytest.fixture
def empty() -> Iterator[str]:
    """The address of ``serve`` in a folder that does not exist yet, with a private PostgreSQL of its own."""
    folder = Path(tempfile.mkdtemp(prefix="cavrel-first-"))
    folder.chmod(0o755)  # as root the cluster runs as another user
    port = free_port()
    own = {k: v for k, v in os.environ.items() if k != "DATABASE_URL"}
    own |= {"CAVREL_DATA": str(folder / "data"), "CAVREL_PORT": str(port), "CAVREL_WORKERS": "2"}
    process = subprocess.Popen([sys.executable, "-m", "cavrel", "serve"], cwd=ROOT, env=own, stdout=subprocess.DEVNULL)
    address = f"http://127.0.0.1:{port}"
    wait_until_served(address)
    yield address
    process.terminate()
    process.wait(30)
    shutil.rmtree(folder, ignore_errors=True)


@pytest.mark.own_window
def test_from_an_empty_folder_to_the_first_reading(empty: str, page: Page) -> None:
    began = time.monotonic()
    page.goto(empty)
    expect(page.get_by_role("heading", name="Create your first course")).to_be_visible()
    page.get_by_label("Name", exact=True).fill("Evening")
    page.get_by_label("Latitude in degrees, north positive").fill("57,1")
    page.get_by_label("your own names, one for each bench").check()
    page.get_by_label("Names of the benches, one on a line").fill("Beacon\nLantern")
    # What was typed is there again after the page is lost.
    page.reload()
    expect(page.get_by_label("Names of the benches, one on a line")).to_have_value("Beacon\nLantern")
    page.get_by_role("button", name="Create course").click()
    expect(page.get_by_text("Evening has been created with 2 benches")).to_be_visible()
    page.get_by_role("link", name="Free-fall acceleration from a pendulum").click()
    page.get_by_label("Bench", exact=True).select_option("Lantern")
    page.get_by_role("button", name="Start measuring").click()
    page.wait_for_selector("html[data-ready=yes]")
    page.locator("#gate-read").click()
    cell = page.locator("#i-swings-L-1-1")
    cell.fill("40.0")
    cell.press("Enter")
    expect(page.locator("#kept")).to_have_attribute("data-state", "saved")
    assert time.monotonic() - began < 180
    # The page that begins a course has forgotten the one that was begun.
    page.goto(f"{empty}/courses/new")
    expect(page.get_by_label("Name", exact=True)).to_have_value("")
    page.goto(f"{empty}/runs")
    expect(page.get_by_role("link", name="Free-fall acceleration from a pendulum")).to_be_visible()
