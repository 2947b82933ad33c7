"""Whether there is long work to be done, and the process that does it: started, started again when it died, ended with the server.

Nothing of the computation is loaded here: a server that starts should listen before it knows any physics.
"""

import os
import subprocess
import sys
from threading import Event, Thread

from cavrel.store import work as store
from cavrel.store.pool import DatabaseAway, Pool, open_pool, transaction

LOOKS_EVERY = 1.0
"""Seconds between looks for work."""


def open_(pool: Pool) -> list[int]:
    """Numbers of what waits to be done; none while the database is away."""
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
                if not open_(pool):
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
