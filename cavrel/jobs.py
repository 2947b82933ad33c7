"""The process that works off long work, started when there is some and gone when there is none. ``python -m cavrel.jobs``.

What it makes is kept run by run in the database; killed, it leaves the rest to the next one.
"""

import logging
import os
import subprocess
import sys
from collections.abc import Mapping
from threading import Event, Thread
from typing import Any

from cavrel.service import working
from cavrel.service.opened import Opened
from cavrel.store import queue
from cavrel.store import work as store
from cavrel.store.pool import DatabaseAway, Pool, open_pool, transaction
from cavrel.workers import end_with_parent

LOOKS_EVERY = 1.0
"""Seconds between looks for work."""


def _make(opened: Opened, kind: str, options: Mapping[str, Any]) -> tuple[str, bytes]:
    from cavrel.web import files

    wish = files.Wish(
        form=str(options.get("form", "")), paper=str(options.get("paper", "a4")), cupboard=opened.cupboard
    )
    return files.named(opened, kind), files.made(opened, kind, wish)


def work_off(url: str) -> None:
    """Do all that waits, then return."""
    from cavrel.web.app import plain_app

    with open_pool(url, size=4) as pool:
        for number in _open(pool):  # what a process that died left behind is put in line again
            queue.put(url, number)
        app = queue.working(url)
        pages = plain_app()

        @app.task(name=queue.TASK)  # type: ignore[untyped-decorator]
        def carry_out(work: int) -> None:
            with pages.app_context():
                working.carry_out(pool, work, _make)

        app.run_worker(wait=False, concurrency=1, install_signal_handlers=False, listen_notify=False)


def _open(pool: Pool) -> list[int]:
    try:
        with transaction(pool) as connection:
            return store.open_(connection)
    except DatabaseAway:
        return []


class Watch:
    """Starts the process when there is work, again when it died over it, and ends it with the server."""

    def __init__(self, url: str) -> None:
        self.url = url
        self.ended = Event()
        self.thread = Thread(target=self._look, daemon=True)
        self.thread.start()

    def _look(self) -> None:
        with open_pool(self.url, size=1) as pool:
            rest = LOOKS_EVERY
            while not self.ended.wait(rest):
                if not _open(pool):
                    rest = LOOKS_EVERY
                    continue
                process = subprocess.Popen(
                    [sys.executable, "-m", "cavrel.jobs"],
                    env={**os.environ, "DATABASE_URL": self.url, "OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"},
                    start_new_session=True,
                )
                while process.poll() is None and not self.ended.wait(0.2):
                    pass
                if process.poll() is None:
                    process.terminate()
                    process.wait(10)
                # One that fails at once is not started again and again.
                rest = LOOKS_EVERY if process.returncode == 0 else min(2 * rest, 30.0)

    def stop(self) -> None:
        """End it; what it has made is kept."""
        self.ended.set()
        self.thread.join(12)


if __name__ == "__main__":
    end_with_parent()
    logging.basicConfig(level=logging.WARNING, format="%(asctime)s %(name)s: %(message)s")
    work_off(os.environ["DATABASE_URL"])
