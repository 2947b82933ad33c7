"""The course exported: a bar that survives a reload, a process that is killed over it and goes on, a file at the end."""

import contextlib
import io
import os
import signal
import time
import zipfile
from pathlib import Path

from playwright.sync_api import Page, expect

from tests.browser.conftest import Server
from tests.thorough import thorough

OWN_SERVER = True  # its processes are killed


def working(server: Server) -> list[int]:
    """The processes of a server that work long work off, from what Linux says of every process."""
    assert server.process is not None
    found = []
    for folder in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):
            parent = int((folder / "stat").read_text().rpartition(")")[2].split()[1])
            if parent == server.process.pid and b"cavrel.jobs" in (folder / "cmdline").read_bytes():
                found.append(int(folder.name))
    return found


@thorough
def test_an_archive_is_made_though_its_process_is_killed(page: Page, server: Server) -> None:
    page.goto(f"{server.address}/course")
    page.get_by_role("button", name="Every run as a workbook").click()
    bar = page.locator(".work").first
    expect(bar.locator("progress")).to_be_visible()
    end = time.monotonic() + 60
    while not (found := working(server)):
        assert time.monotonic() < end, "nobody works it off"
        time.sleep(0.02)
    for one in found:
        with contextlib.suppress(ProcessLookupError):
            os.kill(one, signal.SIGKILL)
    page.reload()
    link = page.locator(".work").first.get_by_role("link", name="tallow-quay-xlsx.zip")
    expect(link).to_be_visible(timeout=90000)
    with page.expect_download() as download:
        link.click()
    body = download.value.path().read_bytes()
    with zipfile.ZipFile(io.BytesIO(body)) as packed:
        assert len(packed.namelist()) == page.request.get(f"{server.address}/course.json").json()["work"][0]["total"]
