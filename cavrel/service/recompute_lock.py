"""Whose turn it is to be computed: one send at a time in a process, so that saving never waits behind what follows from other saves.

Python runs one thread at a time. Forty sends that are all computed at once would leave a fortieth of it to the one that only wants to be
committed; with one at work, a commit takes its turn within a switch (``sys.setswitchinterval``, see ``cavrel.workers``).
"""

import threading
from collections.abc import Iterator
from contextlib import contextmanager

_one = threading.Lock()
_guard = threading.Lock()
_newest: dict[tuple[int, str], int] = {}
_count = 0


@contextmanager
def alone() -> Iterator[None]:
    """For work that nobody waits for: it takes its turn as what follows from saves does."""
    with _one:
        yield


class Turn:
    """A send's place in the queue, taken when it was committed. As a context it waits, and says whether working it out is still wanted."""

    __slots__ = ("_key", "_number")

    def __init__(self, run: int, view: str) -> None:
        global _count
        with _guard:
            _count += 1
            self._number = _count
            self._key = (run, view) if view else (run, f"send {_count}")
            _newest[self._key] = self._number

    def __enter__(self) -> bool:
        _one.acquire()
        return _newest.get(self._key) == self._number

    def __exit__(self, *_fault: object) -> None:
        _one.release()
        self.end()

    def end(self) -> None:
        """Nobody waits for it any more."""
        with _guard:
            if _newest.get(self._key) == self._number:
                del _newest[self._key]
