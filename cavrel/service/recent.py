"""The runs opened last, each as it stood last, within so many bytes: a cache of a pure function, which may be forgotten at any time."""

from collections import OrderedDict
from collections.abc import Iterable
from dataclasses import dataclass
from threading import Lock

from cavrel.core.logbook import Book, Entry
from cavrel.service.run_view import RunView

MOST_BYTES = 192 * 1024 * 1024


@dataclass(frozen=True, slots=True, kw_only=True)
class Remembered:
    """A run up to its entry ``last``.

    ``state``: what besides entries it was computed from.
    ``book``: the logbook folded, to which newer entries are added.
    ``opened``: what followed.
    ``held``: bytes of its entries, as they lie in memory, about.
    """

    last: int
    state: tuple[object, ...]
    book: Book
    opened: RunView
    held: int


class Recent:
    """Runs by ``key``, which keeps runs of two databases apart that one process serves one after the other."""

    def __init__(self, most: int = MOST_BYTES) -> None:
        self._kept: OrderedDict[object, tuple[Remembered, int]] = OrderedDict()
        self._most, self._held, self._lock = most, 0, Lock()

    def get(self, key: object) -> Remembered | None:
        with self._lock:
            found = self._kept.get(key)
            if found is None:
                return None
            self._kept.move_to_end(key)
            return found[0]

    def put(self, key: object, remembered: Remembered) -> None:
        """Remember a run; an older state of it never takes the place of a newer one."""
        size = remembered.held + _bytes(remembered.opened)
        with self._lock:
            known = self._kept.pop(key, None)
            if known is not None:
                self._held -= known[1]
                if known[0].last > remembered.last:
                    remembered, size = known
            self._kept[key] = (remembered, size)
            self._held += size
            while self._held > self._most and self._kept:
                self._held -= self._kept.popitem(last=False)[1][1]


def bytes_of(entries: Iterable[Entry]) -> int:
    """About how much memory entries hold; samples are most of it where there are any."""
    return sum(2_000 + 150 * len(v) if isinstance(v := e.body.get("values"), list) else 2_000 for e in entries)


def _bytes(opened: RunView) -> int:
    """About how much memory an opened run holds besides its entries: the batch of its analysis, and what is made of it for a page."""
    batch = opened.analysis.perturbations.batch * (8 + 2 * len(opened.analysis.results))
    return 200_000 + 8 * batch
