"""The processes that answer pages: several over one database, started again when one dies. ``python -m cavrel.workers SOCKET MANY``.

State between them is in the database only. They end with the process that started them, whatever ends it.
"""

import contextlib
import ctypes
import mmap
import os
import signal
import struct
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from gunicorn.app.base import BaseApplication

from cavrel import catalogue
from cavrel.store.pool import MOST_WAITING, DatabaseAway, Pool, open_pool
from cavrel.web import create_app

_PR_SET_PDEATHSIG = 1
SWITCH = 0.0005
"""A thread that wants to run waits so long for one that computes, s. Python's own 5 ms, at each of a save's waits for the database, would make
a save as slow as what others compute meanwhile."""
MOST_DATABASE = 60
"""Connections to the database, of all processes together; PostgreSQL allows a hundred."""


RENEWED = 20_000
"""Requests after which a process is followed by another one, so that none grows for ever; up to twice as many, so that not all go at once."""
LONGEST_ANSWER = 120
"""Seconds in which a process that is renewed ends what it has begun."""
MOST_MEMORY = int(os.environ.get("CAVREL_MEMORY") or "600") * 2**20
"""Bytes that a process may grow to."""
_LOOKED_AT = 20
_NUMBER = struct.Struct("q")


def _resident() -> int:
    """Bytes of memory that this process uses."""
    try:
        return int(Path("/proc/self/statm").read_bytes().split()[1]) * os.sysconf("SC_PAGE_SIZE")
    except (OSError, ValueError, IndexError):
        return 0


def end_with_parent() -> None:
    """Ask Linux to kill this process when the one that started it ends; elsewhere the master's own watch has to do."""
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)


class _Master(BaseApplication):  # type: ignore[misc]
    """Holds the listening socket and keeps ``many`` processes at work."""

    def __init__(self, socket: int, many: int, url: str, make: Callable[[Pool], Any]) -> None:
        self.socket, self.many, self.url, self.make, self.first = socket, many, url, make, False
        self.since = 0
        # Shared by all that are forked: how many ended, and how many of them were renewed.
        self.tally = mmap.mmap(-1, 16)
        super().__init__()

    def load_config(self) -> None:
        settings: dict[str, Any] = {
            "bind": f"fd://{self.socket}",
            "workers": self.many,
            "worker_class": "gthread",
            # More than may wait for the database, so that files and pages from memory still get through.
            "threads": MOST_WAITING + 8,
            # Open connections a process: browsers keep about six each, and four hundred tablets fit.
            "worker_connections": 2000,
            "keepalive": 30,
            "timeout": 120,
            "graceful_timeout": 8,
            "forwarded_allow_ips": "",
            "loglevel": "warning",
            "control_socket_disable": True,
            "post_fork": self.began,
            "post_request": self.answered,
            "child_exit": lambda _server, _worker: self.count(0),
        }
        for name, value in settings.items():
            self.cfg.set(name, value)

    def began(self, _arbiter: Any, worker: Any) -> None:
        """A process was forked."""
        end_with_parent()
        self.first = worker.age == 1

    def answered(self, worker: Any, _request: Any, _environment: Any, _answer: Any) -> None:
        """A request was answered: a process that has grown old or large answers those that it has begun and is followed by another."""
        self.since += 1
        if not worker.alive or self.since % _LOOKED_AT:
            return
        # Not all of them at once.
        old = self.since > RENEWED * (1 + worker.age % 8 / 8)
        if old or _resident() > MOST_MEMORY:
            worker.log.warning("a process is renewed: %d requests, %d MB", self.since, _resident() // 2**20)
            self.count(8)
            worker.cfg.set("graceful_timeout", LONGEST_ANSWER)
            worker.alive = False

    def count(self, at: int) -> None:
        """One more that ended (0), or that was renewed (8)."""
        self.tally[at : at + 8] = _NUMBER.pack(_NUMBER.unpack(self.tally[at : at + 8])[0] + 1)

    def died(self) -> int:
        """How many ended without being renewed since the server was started."""
        ended, renewed = (_NUMBER.unpack(self.tally[at : at + 8])[0] for at in (0, 8))
        return max(int(ended - renewed), 0)

    def load(self) -> Any:
        """One process's application, with connections of its own; it waits for a database that is away."""
        sys.setswitchinterval(SWITCH)
        pool = open_pool(self.url, size=max(4, MOST_DATABASE // self.many))
        if self.first:
            # Compiling the whole catalogue takes half a second; one process does it during the first requests, and the others compile what they
            # are asked for.
            threading.Thread(target=catalogue.warm, daemon=True).start()
        while True:
            try:
                app = self.make(pool)
                if hasattr(app, "extensions"):
                    app.extensions["cavrel_died"] = self.died
                return app
            except DatabaseAway:
                time.sleep(1)


def serve(socket: int, many: int, url: str, make: Callable[[Pool], Any] = create_app) -> None:
    """Answer pages on a listening ``socket`` with ``many`` processes, until told to stop. ``make``: the application over a pool, Cavrel's own."""
    end_with_parent()
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # who started us says when to stop
    catalogue.experiments()  # read once, shared by all that are forked
    _Master(socket, many, url, make).run()


if __name__ == "__main__":
    serve(int(sys.argv[1]), int(sys.argv[2]), os.environ["DATABASE_URL"])
