"""The course taken along: a bar that survives a reload, a process that is killed over it and goes on, a file at the end."""

import contextlib
import io
import os
import signal
import subprocess
import time
import zipfile

from playwright.sync_api import Page, expect

from tests.browser.conftest import Server

OWN_SERVER = True  # its processes are killed


def working(server: Server) -> list[int]:
    assert server.process is not None
    found = subprocess.run(
        ["pgrep", "-P", str(server.process.pid), "-f", "cavrel.jobs"], capture_output=True, text=True, check=False
    )
    return [int(line) for line in found.stdout.split()]


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
