"""How Chromium and the server are started for pictures and browser tests."""

import shutil
import time
import urllib.request

EXECUTABLE = shutil.which("chromium-headless-shell") or "/usr/bin/chromium"
"""The shell draws no window that nobody sees, and takes a third less of the processor for a page."""
ARGUMENTS = [
    "--no-sandbox",  # as root Chromium will not start without; the rest keeps it from talking to anybody but us
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]


def wait_until_served(address: str) -> None:
    """Returns when the server at ``address`` answers. Raises RuntimeError after half a minute."""
    for _ in range(300):
        try:
            with urllib.request.urlopen(f"{address}/health", timeout=1):
                return
        except OSError:
            time.sleep(0.1)
    raise RuntimeError(f"the server at {address} did not start")
